// Words and numbers for people. Pure, so that they are tested without a page.
import type { Change, Health, Hit, Run } from '../api/client'
import { language, t } from '../state/language'

export type Tone = 'success' | 'warning' | 'error' | 'info' | 'default'

export type Purpose = Run['purpose']

const purposes: Record<Purpose, string> = {
  sync: t('sync'),
  full: t('sync of everything'),
  release: t('release of held removals'),
  single: t('sync of one object'),
  undo: t('undo'),
  rehearsal: t('rehearsal'),
  forecast: t('forecast for everybody'),
  impact: t('impact of the draft'),
  trial: t('trial of one object'),
  look: t('reading'),
  survey: t('survey'),
}

/** What a run is for, in a word. */
export const runKind = (run: Pick<Run, 'purpose'>) => purposes[run.purpose]
export const runPurposes = Object.entries(purposes).map(([value, text]) => ({
  value,
  label: text.charAt(0).toUpperCase() + text.slice(1),
}))

/** Whether a run decides and writes nothing. */
export const rehearses = (run?: Pick<Run, 'purpose'> | null) =>
  Boolean(run && ['rehearsal', 'forecast', 'impact', 'trial'].includes(run.purpose))

/** What the changes would do that a run holds. */
export function heldText(run: Pick<Run, 'counts'>): string {
  const texts = (run.counts.losses ?? []).map((loss) => loss.text)
  return texts.length ? texts.join(', ') : t('suspend or delete {0}', run.counts.held)
}

/** How many removals a run holds, or how many that come when a grace time is over. */
export const heldRemovals = (run: Pick<Run, 'counts'>, later = false) =>
  (run.counts.losses ?? [])
    .filter((loss) => loss.of === 'removals' && later === (loss.target === 'leave'))
    .reduce((sum, loss) => sum + loss.count, 0)

export function runWord(run: Pick<Run, 'state' | 'stage' | 'purpose' | 'failure'>): { text: string; tone: Tone } {
  switch (run.state) {
    case 'cancelled':
      if (run.failure?.code === 'paused') return { text: t('Stopped by a pause'), tone: 'warning' }
      return { text: t('Cancelled'), tone: 'default' }
    case 'in-step':
      if (run.purpose === 'look') return { text: t('Read'), tone: 'success' }
      if (run.purpose === 'survey') return { text: t('Nothing found'), tone: 'success' }
      return { text: rehearses(run) ? t('Rehearsed') : t('In step'), tone: 'success' }
    case 'problems':
      if (run.purpose === 'survey') return { text: t('With findings'), tone: 'warning' }
      return { text: rehearses(run) ? t('Rehearsed, with problems') : t('With problems'), tone: 'warning' }
    case 'failed':
      return { text: t('Failed'), tone: 'error' }
    case 'running':
      return { text: run.stage ? t('Running: {0}', run.stage) : t('Running'), tone: 'info' }
    default:
      return { text: t('Waiting'), tone: 'default' }
  }
}

const objectWords: Record<Hit['state'], { text: string; tone: Tone; means: string }> = {
  'in-step': { text: t('In step'), tone: 'success', means: t('The resource is as the rules make it.') },
  suspended: {
    text: t('Suspended'),
    tone: 'default',
    means: t('The person left or is out of scope; the resource is kept, inactive.'),
  },
  leaving: {
    text: t('Waiting for deletion'),
    tone: 'warning',
    means: t('It left or is out of scope; the resource is deleted when the grace time is over.'),
  },
  left: {
    text: t('Left'),
    tone: 'default',
    means: t('It left or is out of scope; by the leaver policy the resource stays as it is.'),
  },
  problem: { text: t('Problem'), tone: 'error', means: t('Something keeps it from being in step.') },
  changing: { text: t('Changing'), tone: 'info', means: t('The next run looks at it.') },
  'not-synced': { text: t('Not synced'), tone: 'default', means: t('Out of scope, with nothing in the cloud.') },
  'cloud-only': { text: t('Cloud only'), tone: 'default', means: t('No entry owns it; Kambrel leaves it alone.') },
  removed: { text: t('Removed'), tone: 'default', means: t('Deleted in the directory, with nothing in the cloud.') },
}

export const objectWord = (state: Hit['state']) => objectWords[state]
export const objectStates = Object.entries(objectWords).map(([value, word]) => ({
  value: value as Hit['state'],
  label: word.text,
}))

export function changeWord(
  change: Pick<Change, 'state' | 'code' | 'hangs'>,
  rehearsal: boolean,
): { text: string; tone: Tone } {
  switch (change.state) {
    case 'done':
      return change.code ? { text: t('Done, but altered'), tone: 'warning' } : { text: t('Done'), tone: 'success' }
    case 'failed':
      return { text: t('Failed'), tone: 'error' }
    case 'blocked':
      return { text: t('Problem'), tone: 'error' }
    case 'noted':
      return { text: t('Nothing to do'), tone: 'default' }
    case 'discarded':
      return { text: t('Discarded'), tone: 'default' }
    case 'held':
      return { text: change.hangs ? t('Held with it') : t('Held'), tone: 'warning' }
    case 'unconfirmed':
      return { text: t('Made, but not found'), tone: 'error' }
    case 'unanswered':
      return { text: t('Not answered'), tone: 'error' }
    case 'planned':
      return { text: rehearsal ? t('Would be done') : t('Planned'), tone: 'default' }
    case 'sent':
      return { text: t('Sent'), tone: 'info' }
    default:
      return { text: t('Planned anew'), tone: 'default' }
  }
}

/** A value of an attribute as text; nothing is "". */
export function show(value: unknown): string {
  if (value === null || value === undefined) return ''
  if (typeof value === 'string') return value
  if (Array.isArray(value) && value.every((item) => typeof item === 'string')) return value.join(' | ')
  return typeof value === 'object' ? JSON.stringify(value) : String(value)
}

/** The last part of an attribute's path, for schema URNs are long. */
export function shortTarget(target: string): string {
  const at = target.startsWith('urn:') ? target.lastIndexOf(':') : -1
  return at < 0 ? target : target.slice(at + 1)
}

export function count(n: number, word: string, many = word + 's'): string {
  return `${n.toLocaleString(language)} ${t(n === 1 ? word : many)}`
}

/** A list's total with its noun; of very long lists only so many are counted. */
export function counted(
  page: { total: number; atLeast?: boolean } | null | undefined,
  word: string,
  many?: string,
): string {
  return (page?.atLeast ? t('more than ') : '') + count(page?.total ?? 0, word, many)
}

/** How long something took, from ISO times; until is now while it goes on. */
export function took(from?: string, until?: string): string {
  if (!from) return ''
  const ms = (until ? Date.parse(until) : Date.now()) - Date.parse(from)
  if (ms < 10_000) return `${(Math.max(ms, 0) / 1000).toFixed(1)} s`
  if (ms < 60_000) return `${Math.round(ms / 1000)} s`
  return t('{0} min {1} s', Math.floor(ms / 60_000), Math.round((ms % 60_000) / 1000))
}

/** A time for people: today only the time, else the day too. */
export function when(iso?: string, now = new Date()): string {
  if (!iso) return t('never')
  const at = new Date(iso)
  const time = at.toLocaleTimeString('en-GB')
  return at.toDateString() === now.toDateString() ? time : `${at.toLocaleDateString('en-CA')} ${time}`
}

/** How far off a time is. */
export function until(iso: string, now = Date.now()): string {
  const s = Math.round((Date.parse(iso) - now) / 1000)
  if (s <= 0) return t('within seconds')
  if (s < 90) return t('in {0} s', s)
  if (s < 5400) return t('in {0} min', Math.round(s / 60))
  if (s < 172_800) return t('in {0} h', Math.round(s / 3600))
  return t('in {0} days', Math.round(s / 86_400))
}

/** The day of a time. */
export const day = (iso: string) => new Date(iso).toLocaleDateString('en-CA')

/** What a change does, in a word. */
export const operationWords: Record<string, string> = {
  create: t('create'),
  adopt: t('adopt'),
  update: t('update'),
  restore: t('restore'),
  suspend: t('suspend'),
  leave: t('leave'),
  delete: t('delete'),
  unlink: t('unlink'),
}

/** What an entry or a resource is, in a word. */
export const kindWords: Record<string, string> = { user: t('user'), group: t('group'), contact: t('contact') }

/** The stages of a run. */
export const stageWords: Record<string, string> = {
  read: t('read'),
  plan: t('plan'),
  write: t('write'),
  survey: t('survey'),
}

const states: Record<string, string> = {
  'Everything is in step': t('Everything is in step'),
  'Ready for the first run': t('Ready for the first run'),
}

/** The state of things in a sentence, which the service puts together of the worst and how many more. */
export function healthText({ summary }: Pick<Health, 'summary'>): string {
  const [, first = summary, more] = summary.match(/^(.*), and (\d+) more$/) ?? []
  return (states[first] ?? t(first)) + (more ? t(', and {0} more', more) : '')
}
