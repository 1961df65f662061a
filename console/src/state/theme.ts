// The look: light and dark, with colours of our own.
import { darkTheme, type GlobalThemeOverrides } from 'naive-ui'
import { computed, ref, watchEffect } from 'vue'

import { day, night, variables } from './palette'

type Choice = 'light' | 'dark' | 'system'

const stored = localStorage.getItem('kambrel-look') as Choice | null
export const choice = ref<Choice>(stored ?? 'system')
const system = window.matchMedia('(prefers-color-scheme: dark)')
const systemDark = ref(system.matches)
system.addEventListener('change', (e) => (systemDark.value = e.matches))

export const dark = computed(() => choice.value === 'dark' || (choice.value === 'system' && systemDark.value))

export function toggle(): void {
  choice.value = dark.value ? 'light' : 'dark'
  localStorage.setItem('kambrel-look', choice.value)
}

const palette = computed(() => (dark.value ? night : day))

watchEffect(() => {
  const root = document.documentElement
  root.dataset.look = dark.value ? 'dark' : 'light'
  for (const [name, colour] of Object.entries(variables(palette.value))) root.style.setProperty(name, colour)
})

const shared = {
  borderRadius: '5px',
  borderRadiusSmall: '4px',
  fontSize: '13.5px',
  fontSizeSmall: '13px',
  fontFamily: 'system-ui, "Segoe UI", "Noto Sans", "DejaVu Sans", sans-serif',
  fontFamilyMono: 'ui-monospace, "DejaVu Sans Mono", monospace',
}

export const theme = computed(() => (dark.value ? darkTheme : null))
export const overrides = computed<GlobalThemeOverrides>(() => {
  const p = palette.value
  return {
    common: {
      ...shared,
      primaryColor: p.accent,
      primaryColorHover: p.accentHover,
      primaryColorPressed: p.accentPressed,
      primaryColorSuppl: dark.value ? p.accentPressed : p.accentHover,
      successColor: p.good,
      warningColor: p.warn,
      errorColor: p.bad,
      infoColor: p.info,
      bodyColor: p.paper,
      cardColor: p.sheet,
      tableColor: p.sheet,
      tableHeaderColor: p.sheetHead,
      tableColorStriped: p.sheetHover,
      tableColorHover: p.sheetHover,
      borderColor: p.line,
      dividerColor: p.lineThin,
      popoverColor: p.sheetRaised,
      modalColor: p.sheet,
      inputColor: p.field,
      textColorBase: p.ink,
      textColor1: p.ink1,
      textColor2: p.ink2,
      textColor3: p.ink3,
    },
  }
})
