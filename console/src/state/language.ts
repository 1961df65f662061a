// The language of the console: that of the browser, or what was chosen. The texts of the
// code are English; a catalogue has those of another language by them.
import i18next from 'i18next'
import type { Plugin } from 'vue'

type Language = 'en' | 'de' | 'nb'

/** Those that there are, each in its own words. */
export const languages: Record<Language, string> = { en: 'English', de: 'Deutsch', nb: 'Norsk bokmål' }

const key = 'kambrel-language'

/** What was chosen, null for the browser's. */
export const chosen = localStorage.getItem(key) as Language | null

/** Chooses a language, null for the browser's, and loads the page in it. */
export function choose(language: Language | null): void {
  if (language) localStorage.setItem(key, language)
  else localStorage.removeItem(key)
  location.reload()
}

/** The first of the wanted languages (BCP 47) that there is; Norwegian is bokmål here. */
export function firstOf(wanted: readonly string[]): Language {
  for (const tag of wanted) {
    const name = tag.toLowerCase().split('-')[0] as string
    if (Object.hasOwn(languages, name)) return name as Language
    if (name === 'no' || name === 'nn') return 'nb'
  }
  return 'en'
}

export const language = chosen && Object.hasOwn(languages, chosen) ? chosen : firstOf(navigator.languages)
document.documentElement.lang = language

const catalogues = { de: () => import('../words/de'), nb: () => import('../words/nb') }

// Awaited here, so that whoever has texts, also as constants, comes after it. One that cannot
// be loaded leaves the texts as they are.
const catalogue = language === 'en' ? null : ((await catalogues[language]().catch(() => null))?.default ?? null)

/** The words of what comes with the components. */
export const components = catalogue?.components ?? null

void i18next.init({
  lng: language,
  initAsync: false,
  resources: { [language]: { translation: catalogue?.texts ?? {} } },
  keySeparator: false,
  nsSeparator: false,
  fallbackLng: false,
  interpolation: { prefix: '{', suffix: '}', escapeValue: false },
})

/** A text in the language of the console, with values in the places of {0}, {1}…; also one of
 * the service's catalogue of problems, which the catalogues have, too. */
export function t(text: string | undefined, ...values: unknown[]): string {
  if (!text) return ''
  return i18next.t(text, Object.fromEntries(values.map((value, i) => [i, value ?? ''])))
}

/** Lets templates ask for texts, as the compiler makes them do (texts.ts). */
export const texts: Plugin = { install: (app) => void (app.config.globalProperties.$t = t) }
