// Words of how people sign in. Pure, so that they are tested without a page.
import type { Schemas } from '../api/client'
import type { Tone } from '../parts/words'
import { t } from '../state/language'

type Federation = Schemas['Federation']

export const signOnWords: Record<Federation['signOn'], string> = {
  password: t('Everybody signs in with a password'),
  some: t('Some sign in at the identity provider, the others with a password'),
  provider: t('Everybody signs in at the identity provider'),
}

/** Whether the cloud has it so, in a word. */
export function stateWord(f: Pick<Federation, 'state' | 'changedAt'>): { text: string; tone: Tone } {
  if (!f.changedAt) return { text: t('As it was'), tone: 'default' }
  const words: Record<Federation['state'], { text: string; tone: Tone }> = {
    'in-step': { text: t('In the cloud'), tone: 'success' },
    sending: { text: t('On its way'), tone: 'info' },
    failing: { text: t('Not in the cloud'), tone: 'error' },
    drifted: { text: t('Changed in the cloud'), tone: 'warning' },
  }
  return words[f.state]
}

export const testWords: Record<Schemas['SignInTest']['state'], { text: string; tone: Tone }> = {
  waiting: { text: t('Waiting for the person'), tone: 'info' },
  ended: { text: t('Nobody came'), tone: 'default' },
  accepted: { text: t('Accepted'), tone: 'success' },
  refused: { text: t('Refused'), tone: 'error' },
}

/** A fingerprint in groups, so that it can be compared by eye. */
export const grouped = (fingerprint: string) => fingerprint.match(/.{1,8}/g)?.join(' ') ?? ''

/** How a claim is made, in words. */
export function madeOf(claim: Schemas['Claim']): string {
  if (claim.from) return t('from {0}', claim.from)
  if (claim.formula) return t('formula {0}', claim.formula)
  return t('always {0}', claim.always ?? '')
}
