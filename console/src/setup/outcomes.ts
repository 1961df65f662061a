// The outcomes of a forecast in words, in the order in which they matter.
import type { Schemas } from '../api/client'
import { t } from '../state/language'

type Outcome = Schemas['Outcome']

const known: Record<string, { text: string; tone: string; rank: number }> = {
  linked: { text: t('Linked, in step'), tone: '', rank: 1 },
  adopt: { text: t('Adopted'), tone: '', rank: 2 },
  create: { text: t('Created'), tone: '', rank: 3 },
  update: { text: t('Changed'), tone: '', rank: 4 },
  restore: { text: t('Restored'), tone: '', rank: 5 },
  suspend: { text: t('Suspended'), tone: 'warn', rank: 6 },
  delete: { text: t('Deleted'), tone: 'warn', rank: 7 },
  'same-person': { text: t('One with another entry'), tone: '', rank: 2 },
  unclaimed: { text: t('In the cloud only'), tone: '', rank: 99 },
}

export const outcomeWord = (outcome: string): string => (known[outcome]?.text ?? outcome).toLowerCase()

export interface Tile {
  kind: Outcome['kind']
  outcome: string
  rule: string
  text: string
  tone: string
  count: number
}

/** The outcomes by kind; problems stand between what is done and what nobody claims. */
export function tiles(
  outcomes: Outcome[],
  title: (code: string) => string,
): { kind: Outcome['kind']; text: string; total: number; tiles: Tile[] }[] {
  const names = { user: t('Users'), group: t('Groups'), contact: t('Contacts') }
  return (['user', 'group', 'contact'] as const).map((kind) => {
    const mine = outcomes.filter((o) => o.kind === kind)
    return {
      kind,
      text: names[kind],
      total: mine.filter((o) => o.outcome !== 'unclaimed').reduce((sum, o) => sum + o.count, 0),
      tiles: mine
        .map((o) => ({
          kind,
          outcome: o.outcome,
          rule: o.rule ? t('by {0}', o.rule) : '',
          text: known[o.outcome]?.text ?? title(o.outcome),
          tone: known[o.outcome]?.tone ?? 'bad',
          count: o.count,
        }))
        .sort((a, b) => (known[a.outcome]?.rank ?? 50) - (known[b.outcome]?.rank ?? 50) || b.count - a.count),
    }
  })
}
