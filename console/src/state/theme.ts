// The look: light and dark, with colours of our own.
import { darkTheme, type GlobalThemeOverrides } from 'naive-ui'
import { computed, ref, watchEffect } from 'vue'

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

watchEffect(() => (document.documentElement.dataset.look = dark.value ? 'dark' : 'light'))

const shared = {
  borderRadius: '5px',
  borderRadiusSmall: '4px',
  fontSize: '13.5px',
  fontSizeSmall: '13px',
  fontFamily: 'system-ui, "Segoe UI", "Noto Sans", "DejaVu Sans", sans-serif',
  fontFamilyMono: 'ui-monospace, "DejaVu Sans Mono", monospace',
}

const light: GlobalThemeOverrides = {
  common: {
    ...shared,
    primaryColor: '#17595c',
    primaryColorHover: '#1f7276',
    primaryColorPressed: '#104346',
    primaryColorSuppl: '#1f7276',
    successColor: '#2f7a4d',
    warningColor: '#a9690f',
    errorColor: '#b23a2e',
    infoColor: '#3c6390',
    bodyColor: '#f5f3ee',
    cardColor: '#fffefb',
    tableColor: '#fffefb',
    tableHeaderColor: '#f1eee6',
    borderColor: '#ddd8cc',
    dividerColor: '#e6e2d8',
    tableColorStriped: '#f8f6f0',
    tableColorHover: '#f8f6f0',
    textColorBase: '#1d2526',
    textColor1: '#1d2526',
    textColor2: '#344041',
    textColor3: '#5f6b6c',
  },
}

const night: GlobalThemeOverrides = {
  common: {
    ...shared,
    primaryColor: '#62b6b3',
    primaryColorHover: '#7fc9c6',
    primaryColorPressed: '#4a9c99',
    primaryColorSuppl: '#4a9c99',
    successColor: '#6fbd8b',
    warningColor: '#e0a84e',
    errorColor: '#e67f72',
    infoColor: '#86aede',
    bodyColor: '#14191a',
    cardColor: '#1b2223',
    tableColor: '#1b2223',
    tableHeaderColor: '#222b2c',
    borderColor: '#324041',
    dividerColor: '#2a3536',
    popoverColor: '#222b2c',
    modalColor: '#1b2223',
    inputColor: '#171d1e',
    textColorBase: '#e9ecea',
    textColor1: '#eef1ef',
    textColor2: '#cdd5d3',
    textColor3: '#98a5a4',
  },
}

export const theme = computed(() => (dark.value ? darkTheme : null))
export const overrides = computed(() => (dark.value ? night : light))
