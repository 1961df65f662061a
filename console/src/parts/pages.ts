// The pages of the console: those of the rail, and those within them, with the words by
// which somebody may look for one.
import type { RouteLocationRaw } from 'vue-router'

import { t } from '../state/language'

export interface Page {
  name: string
  label: string
  /** Further words for it. */
  words?: string
  query?: Record<string, string>
  /** The drawing on the rail; a page without one is within another. */
  path?: string
  /** It begins a group on the rail. */
  first?: boolean
  role?: 'operator' | 'administrator'
}

export const pages: Page[] = [
  { name: 'overview', label: t('Overview'), words: t('home start state'), path: 'M3 11 12 4l9 7v9H3z' },
  { name: 'problems', label: t('Problems'), words: t('errors faults'), path: 'M12 4 21 19H3zM12 10v4M12 16.5v.5' },
  { name: 'runs', label: t('Runs'), words: t('history changes'), path: 'M4 6h16M4 12h16M4 18h10' },
  {
    name: 'objects',
    label: t('Objects'),
    words: t('people users groups contacts'),
    path: 'M9 11a3.5 3.5 0 1 0-.01 0zM3 20c0-4 3-6 6-6s6 2 6 6M17 7h4M17 11h4M18 15h3',
  },
  {
    name: 'directories',
    label: t('Directories'),
    words: t('agents ldap versions'),
    path: 'M6 3h12v18H6zM9 8h6M9 12h6M9 16h3',
    first: true,
  },
  {
    name: 'scope',
    label: t('Scope'),
    words: t('containers filters who takes part'),
    path: 'M5 5h4v4H5zM15 10h4v4h-4zM15 17h4v4h-4zM7 9v10h8M7 12h8',
  },
  {
    name: 'rules',
    label: t('Rules'),
    words: t('attributes formulas mapping match'),
    path: 'M4 6h7M4 12h5M4 18h7M14 9l5 3-5 3M20 4v16',
  },
  { name: 'forecast', label: t('Forecast'), words: t('rehearsal'), path: 'M3 17l5-5 4 3 8-9M15 6h5v5M3 21h18' },
  {
    name: 'survey',
    label: t('Survey'),
    words: t('repairs findings values'),
    path: 'M10.5 4a6.5 6.5 0 1 0 0 13 6.5 6.5 0 0 0 0-13zM15.5 15.5 21 21M8 10.5l2 2 3.5-4',
  },
  {
    name: 'passwords',
    label: t('Passwords'),
    words: t('reset digests'),
    path: 'M8 11V8a4 4 0 0 1 8 0v3M5 11h14v9H5zM12 14.5v2',
  },
  {
    name: 'cloud-groups',
    label: t('Cloud groups'),
    words: 'write-back',
    path:
      'M12 3v8M8.5 7.5 12 11l3.5-3.5M7 15a2 2 0 1 0-.01 0zM17 15a2 2 0 1 0-.01 0z' +
      'M3.5 21c0-2.6 1.6-4 3.5-4s3.5 1.4 3.5 4M13.5 21c0-2.6 1.6-4 3.5-4s3.5 1.4 3.5 4',
  },
  {
    name: 'settings',
    label: t('Settings'),
    words: t('draft activate'),
    path: 'M4 7h9M17 7h3M4 17h3M11 17h9M15 4.5v5M9 14.5v5',
  },
  {
    name: 'audit',
    label: t('Audit'),
    words: t('acts who did'),
    path: 'M6 3h9l4 4v14H6zM15 3v4h4M9.5 12.5l2 2 3.5-4',
    role: 'operator',
  },
  {
    name: 'operators',
    label: t('Operators'),
    words: t('roles tokens sessions'),
    path: 'M8 4a3 3 0 1 0 .01 0zM3 20c0-4 2.2-6 5-6s5 2 5 6M17 9.5a2.5 2.5 0 1 0-.01 0zM17 9.5V20M17 16h3M17 13h2',
    role: 'administrator',
  },
  {
    name: 'cloud',
    label: t('Cloud'),
    words: t('connection token limits'),
    path: 'M7 18a4.5 4.5 0 0 1-.4-9A6 6 0 0 1 18 10.5a3.8 3.8 0 0 1-.5 7.5z',
  },
  { name: 'domains', label: t('Login domains'), words: t('sign-in federation provider') },
  { name: 'first-day', label: t('First day'), words: t('begin steps checklist next'), role: 'administrator' },
  { name: 'installation', label: t('Installation'), words: t('checkup doctor health') },
  { name: 'kept', label: t('Kept'), words: t('held guard') },
  { name: 'leavers', label: t('Leavers'), words: t('grace deletion') },
  { name: 'notices', label: t('Notices'), words: t('mail') },
  { name: 'report', label: t('Report'), words: t('figures csv') },
  { name: 'settings', label: t('Expectations'), words: t('must hold tests'), query: { view: 'expectations' } },
  { name: 'settings', label: t('Schedule'), words: t('live interval hours'), query: { view: 'schedule' } },
  { name: 'settings', label: t('Guard and leavers'), words: t('limits removals'), query: { view: 'limits' } },
  {
    name: 'settings',
    label: t("The cloud's habits"),
    words: t('paging bulk patch filter requests'),
    query: { view: 'cloud' },
  },
  { name: 'settings', label: t('Settings as text'), words: t('yaml'), query: { view: 'text' } },
  { name: 'settings', label: t('History of the settings'), words: t('revisions compare'), query: { view: 'history' } },
]

export const placeOfPage = (page: Page): RouteLocationRaw => ({ name: page.name, query: page.query })

/** Whether each word of a text begins one of the words of something. */
export function fits(text: string, ...words: (string | undefined)[]): boolean {
  const there = words.join(' ').toLowerCase().split(/\s+/)
  return text
    .toLowerCase()
    .split(/\s+/)
    .filter(Boolean)
    .every((word) => there.some((one) => one.startsWith(word)))
}
