// Words and numbers for people. Pure, so that they are tested without a page.
import type { Change, Hit, Run } from '../api/client'

export type Tone = 'success' | 'warning' | 'error' | 'info' | 'default'

export type Purpose = Run['purpose']

const purposes: Record<Purpose, string> = {
  sync: 'sync',
  full: 'sync of everything',
  release: 'release of held removals',
  single: 'sync of one object',
  undo: 'undo',
  rehearsal: 'rehearsal',
  forecast: 'forecast for everybody',
  impact: 'impact of the draft',
  trial: 'trial of one object',
  look: 'reading',
  survey: 'survey',
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
  return texts.length ? texts.join(', ') : `suspend or delete ${run.counts.held}`
}

/** How many removals a run holds, or how many that come when a grace time is over. */
export const heldRemovals = (run: Pick<Run, 'counts'>, later = false) =>
  (run.counts.losses ?? [])
    .filter((loss) => loss.of === 'removals' && later === (loss.target === 'leave'))
    .reduce((sum, loss) => sum + loss.count, 0)

export function runWord(run: Pick<Run, 'state' | 'stage' | 'purpose' | 'failure'>): { text: string; tone: Tone } {
  switch (run.state) {
    case 'cancelled':
      if (run.failure?.code === 'paused') return { text: 'Stopped by a pause', tone: 'warning' }
      return { text: 'Cancelled', tone: 'default' }
    case 'in-step':
      if (run.purpose === 'look') return { text: 'Read', tone: 'success' }
      if (run.purpose === 'survey') return { text: 'Nothing found', tone: 'success' }
      return { text: rehearses(run) ? 'Rehearsed' : 'In step', tone: 'success' }
    case 'problems':
      if (run.purpose === 'survey') return { text: 'With findings', tone: 'warning' }
      return { text: rehearses(run) ? 'Rehearsed, with problems' : 'With problems', tone: 'warning' }
    case 'failed':
      return { text: 'Failed', tone: 'error' }
    case 'running':
      return { text: run.stage ? `Running: ${run.stage}` : 'Running', tone: 'info' }
    default:
      return { text: 'Waiting', tone: 'default' }
  }
}

const objectWords: Record<Hit['state'], { text: string; tone: Tone; means: string }> = {
  'in-step': { text: 'In step', tone: 'success', means: 'The resource is as the rules make it.' },
  suspended: {
    text: 'Suspended',
    tone: 'default',
    means: 'The person left or is out of scope; the resource is kept, inactive.',
  },
  leaving: {
    text: 'Waiting for deletion',
    tone: 'warning',
    means: 'It left or is out of scope; the resource is deleted when the grace time is over.',
  },
  left: {
    text: 'Left',
    tone: 'default',
    means: 'It left or is out of scope; by the leaver policy the resource stays as it is.',
  },
  problem: { text: 'Problem', tone: 'error', means: 'Something keeps it from being in step.' },
  changing: { text: 'Changing', tone: 'info', means: 'The next run looks at it.' },
  'not-synced': { text: 'Not synced', tone: 'default', means: 'Out of scope, with nothing in the cloud.' },
  'cloud-only': { text: 'Cloud only', tone: 'default', means: 'No entry owns it; Kambrel leaves it alone.' },
  removed: { text: 'Removed', tone: 'default', means: 'Deleted in the directory, with nothing in the cloud.' },
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
      return change.code ? { text: 'Done, but altered', tone: 'warning' } : { text: 'Done', tone: 'success' }
    case 'failed':
      return { text: 'Failed', tone: 'error' }
    case 'blocked':
      return { text: 'Problem', tone: 'error' }
    case 'noted':
      return { text: 'Nothing to do', tone: 'default' }
    case 'discarded':
      return { text: 'Discarded', tone: 'default' }
    case 'held':
      return { text: change.hangs ? 'Held with it' : 'Held', tone: 'warning' }
    case 'unconfirmed':
      return { text: 'Made, but not found', tone: 'error' }
    case 'unanswered':
      return { text: 'Not answered', tone: 'error' }
    case 'planned':
      return { text: rehearsal ? 'Would be done' : 'Planned', tone: 'default' }
    case 'sent':
      return { text: 'Sent', tone: 'info' }
    default:
      return { text: 'Planned anew', tone: 'default' }
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
  return `${n.toLocaleString('en')} ${n === 1 ? word : many}`
}

/** A list's total with its noun; of very long lists only so many are counted. */
export function counted(
  page: { total: number; atLeast?: boolean } | null | undefined,
  word: string,
  many?: string,
): string {
  return (page?.atLeast ? 'more than ' : '') + count(page?.total ?? 0, word, many)
}

/** How long something took, from ISO times; until is now while it goes on. */
export function took(from?: string, until?: string): string {
  if (!from) return ''
  const ms = (until ? Date.parse(until) : Date.now()) - Date.parse(from)
  if (ms < 10_000) return `${(Math.max(ms, 0) / 1000).toFixed(1)} s`
  if (ms < 60_000) return `${Math.round(ms / 1000)} s`
  return `${Math.floor(ms / 60_000)} min ${Math.round((ms % 60_000) / 1000)} s`
}

/** A time for people: today only the time, else the day too. */
export function when(iso?: string, now = new Date()): string {
  if (!iso) return 'never'
  const at = new Date(iso)
  const time = at.toLocaleTimeString('en-GB')
  return at.toDateString() === now.toDateString() ? time : `${at.toLocaleDateString('en-CA')} ${time}`
}

/** How far off a time is. */
export function until(iso: string, now = Date.now()): string {
  const s = Math.round((Date.parse(iso) - now) / 1000)
  if (s <= 0) return 'within seconds'
  if (s < 90) return `in ${s} s`
  if (s < 5400) return `in ${Math.round(s / 60)} min`
  if (s < 172_800) return `in ${Math.round(s / 3600)} h`
  return `in ${Math.round(s / 86_400)} days`
}

/** The day of a time. */
export const day = (iso: string) => new Date(iso).toLocaleDateString('en-CA')
