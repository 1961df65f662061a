// How a group of the cloud stands in a directory, in words.
import type { Schemas } from '../api/client'
import type { Tone } from '../parts/words'

export const groupStates: Record<Schemas['CloudGroup']['state'], { text: string; tone: Tone }> = {
  'in-step': { text: 'In step', tone: 'success' },
  waits: { text: 'Next run', tone: 'info' },
  problem: { text: 'Problem', tone: 'error' },
  leaving: { text: 'Leaving', tone: 'warning' },
  lost: { text: 'Deleted there', tone: 'error' },
  forgone: { text: 'Left away', tone: 'default' },
  'not-kept': { text: 'Not kept', tone: 'default' },
}

/** The reasons for which a member in the cloud is none in a directory. */
export const leftOutReasons = [
  { label: 'Only in the cloud', value: 'cloud-only' },
  { label: 'In another directory', value: 'other-directory' },
  { label: 'Out of scope', value: 'out-of-scope' },
  { label: 'Groups are left out', value: 'nested-off' },
  { label: 'Group that is not kept', value: 'group-not-kept' },
  { label: 'Refused by its scope', value: 'scope' },
  { label: 'Refused by the directory', value: 'refused' },
  { label: 'Unknown in the cloud', value: 'unknown' },
]
