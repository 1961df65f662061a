import { expect, test } from 'vitest'

import { nameUnnamed } from './unnamed'

test('boxes of rows are named by their row, and that of the head by the page', () => {
  document.body.innerHTML = `<div class="n-data-table"><table><tr><th><div class="n-checkbox"></div></th></tr>
    <tr><td><div class="n-checkbox"></div></td><td> Ada Lind </td></tr><tr><td><div class="n-checkbox" aria-label="Mine"></div></td><td>Bo</td></tr></table></div>`
  nameUnnamed(document)
  const names = [...document.querySelectorAll('.n-checkbox')].map((box) => box.getAttribute('aria-label'))
  expect(names).toEqual(['Choose all of this page', 'Choose Ada Lind', 'Mine'])
})

test('what scrolls can be reached, unless something in it can', () => {
  document.body.innerHTML =
    '<div class="scroll" id="a">text</div><div class="scroll" id="b"><a href="/x">x</a></div><div class="scroll" id="c">short</div>'
  for (const id of ['a', 'b']) Object.defineProperty(document.getElementById(id), 'scrollWidth', { value: 900 })
  nameUnnamed(document)
  expect([...document.querySelectorAll<HTMLElement>('.scroll')].map((part) => part.tabIndex)).toEqual([0, -1, -1])
})
