// What the component library leaves without a name or out of reach: boxes by which rows of a table are
// chosen, the field in a list that can be typed into, titles of dialogues, and parts that scroll and hold
// nothing that takes the focus (WCAG 2.1, 4.1.2, 1.3.1 and 2.1.1).
import { onMounted, onUnmounted } from 'vue'

import { t } from '../state/language'

/** Names them within a part of the page; those that are named already stay as they are. */
export function nameUnnamed(root: ParentNode): void {
  for (const box of root.querySelectorAll<HTMLElement>('.n-data-table .n-checkbox:not([aria-label])')) {
    const row = box.closest('tr')
    const cell = [...(row?.querySelectorAll('td') ?? [])].find((td) => td.textContent?.trim())
    box.setAttribute(
      'aria-label',
      cell ? t('Choose {0}', cell.textContent?.trim().slice(0, 80)) : t('Choose all of this page'),
    )
  }
  for (const input of root.querySelectorAll('[aria-label] input.n-base-selection-input:not([aria-label])'))
    input.setAttribute('aria-label', input.closest('[aria-label]')?.getAttribute('aria-label') ?? '')
  for (const title of root.querySelectorAll('.n-card-header[role=heading]')) {
    title.removeAttribute('role') // what it holds is the heading
    title.querySelector('[role=heading]')?.setAttribute('aria-level', '2')
  }
  for (const part of root.querySelectorAll<HTMLElement>('.n-scrollbar-container, .scroll')) {
    const scrolls = part.scrollWidth > part.clientWidth || part.scrollHeight > part.clientHeight
    if (scrolls && !part.querySelector('a[href], button, input, [tabindex="0"]')) part.tabIndex = 0
  }
}

/** Keeps them named while the page changes, and what opens over it. */
export function useNames(): void {
  let timer = 0
  const soon = () => {
    window.clearTimeout(timer)
    timer = window.setTimeout(() => nameUnnamed(document), 100)
  }
  const watching = new MutationObserver(soon)
  onMounted(() => {
    watching.observe(document.body, { childList: true, subtree: true })
    window.addEventListener('resize', soon)
    soon()
  })
  onUnmounted(() => {
    watching.disconnect()
    window.removeEventListener('resize', soon)
    window.clearTimeout(timer)
  })
}
