// How a group of the cloud stands in a directory, in words.
import type { Schemas } from '../api/client'
import type { Tone } from '../parts/words'
import { t } from '../state/language'

export const groupStates: Record<Schemas['CloudGroup']['state'], { text: string; tone: Tone }> = {
  'in-step': { text: t('In step'), tone: 'success' },
  waits: { text: t('Next run'), tone: 'info' },
  problem: { text: t('Problem'), tone: 'error' },
  leaving: { text: t('Leaving'), tone: 'warning' },
  lost: { text: t('Deleted there'), tone: 'error' },
  forgone: { text: t('Left away'), tone: 'default' },
  'not-kept': { text: t('Not kept'), tone: 'default' },
}

/** The reasons for which a member in the cloud is none in a directory. */
export const leftOutReasons = [
  { label: t('Only in the cloud'), value: 'cloud-only' },
  { label: t('In another directory'), value: 'other-directory' },
  { label: t('Out of scope'), value: 'out-of-scope' },
  { label: t('Groups are left out'), value: 'nested-off' },
  { label: t('Group that is not kept'), value: 'group-not-kept' },
  { label: t('Refused by its scope'), value: 'scope' },
  { label: t('Refused by the directory'), value: 'refused' },
  { label: t('Unknown in the cloud'), value: 'unknown' },
]
