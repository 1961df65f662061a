// Words of how people sign in. Pure, so that they are tested without a page.
import type { Schemas } from '../api/client'
import type { Tone } from '../parts/words'

type Federation = Schemas['Federation']

export const signOnWords: Record<Federation['signOn'], string> = {
  password: 'Everybody signs in with a password',
  some: 'Some sign in at the identity provider, the others with a password',
  provider: 'Everybody signs in at the identity provider',
}

/** Whether the cloud has it so, in a word. */
export function stateWord(f: Pick<Federation, 'state' | 'changedAt'>): { text: string; tone: Tone } {
  if (!f.changedAt) return { text: 'As it was', tone: 'default' }
  const words: Record<Federation['state'], { text: string; tone: Tone }> = {
    'in-step': { text: 'In the cloud', tone: 'success' },
    sending: { text: 'On its way', tone: 'info' },
    failing: { text: 'Not in the cloud', tone: 'error' },
    drifted: { text: 'Changed in the cloud', tone: 'warning' },
  }
  return words[f.state]
}

export const testWords: Record<Schemas['SignInTest']['state'], { text: string; tone: Tone }> = {
  waiting: { text: 'Waiting for the person', tone: 'info' },
  ended: { text: 'Nobody came', tone: 'default' },
  accepted: { text: 'Accepted', tone: 'success' },
  refused: { text: 'Refused', tone: 'error' },
}

/** A fingerprint in groups, so that it can be compared by eye. */
export const grouped = (fingerprint: string) => fingerprint.match(/.{1,8}/g)?.join(' ') ?? ''

/** How a claim is made, in words. */
export function madeOf(claim: Schemas['Claim']): string {
  if (claim.from) return `from ${claim.from}`
  if (claim.formula) return `formula ${claim.formula}`
  return `always ${claim.always ?? ''}`
}
