// Rules as the page of rules shows them: which way a rule makes its value.
import type { Schemas } from '../api/client'
import { t } from '../state/language'

export type Rule = Schemas['Rule']
export type Way = 'from' | 'always' | 'formula' | 'reference' | 'granted'

export const ways: { value: Way; text: string; means: string }[] = [
  { value: 'from', text: t('From an attribute'), means: t('the first value of a directory attribute') },
  { value: 'always', text: t('Always the same'), means: t('a fixed text, number, true or false') },
  { value: 'formula', text: t('By a formula'), means: t('worked out from the entry') },
  { value: 'reference', text: t('A reference'), means: t('the resource of the entry that an attribute names') },
  {
    value: 'granted',
    text: t('Granted by membership'),
    means: t('values that members of groups have, and lose when they leave'),
  },
]

/** What a way means where rules read an entry, or a group of the cloud. */
export function meaning(way: Way, over: 'entry' | 'resource' = 'entry'): string {
  if (over === 'resource' && way === 'from') return t('the first value of an attribute that the group has in the cloud')
  if (over === 'resource' && way === 'formula') return t('worked out from the group, as in resource.displayName')
  return ways.find((w) => w.value === way)?.means ?? ''
}

/** How a rule makes its value. */
export function wayOf(rule: Rule): Way {
  if (rule.formula !== undefined) return 'formula'
  if (rule.reference !== undefined) return 'reference'
  if (rule.granted !== undefined && rule.granted !== null) return 'granted'
  if (rule.always !== undefined) return 'always'
  return 'from'
}

/** The rule made another way; what only the old way had is dropped. */
export function byWay(rule: Rule, way: Way, over: 'entry' | 'resource' = 'entry'): Rule {
  const next: Rule = { target: rule.target }
  if (way !== 'reference') {
    if (rule.when) next.when = rule.when
    if (rule.fallback) next.fallback = rule.fallback
    if (way !== 'granted') {
      if (rule.createOnly) next.createOnly = true
      if (rule.required) next.required = true
      if (rule.prefer?.length) next.prefer = rule.prefer
    }
  }
  switch (way) {
    case 'from':
      next.from = rule.from ?? ''
      break
    case 'always':
      next.always = rule.always ?? ''
      break
    case 'formula':
      next.formula = rule.formula ?? (rule.from ? `${over}.${rule.from}` : '')
      break
    case 'reference':
      next.reference = rule.reference ?? (rule.target.toLowerCase() === 'members' ? 'member' : 'manager')
      break
    case 'granted':
      next.granted = rule.granted ?? [{ group: '', value: '' }]
  }
  return next
}

/** A rule in one line. */
export function inWords(rule: Rule): string {
  const parts = [
    {
      from: t('from {0}', rule.from ?? ''),
      always: t('always {0}', String(rule.always)),
      formula: rule.formula ?? '',
      reference:
        rule.target.toLowerCase() === 'members'
          ? t('the linked members of the group')
          : t('the resource of {0}', rule.reference ?? ''),
      granted: t('{0} by membership', (rule.granted ?? []).map((g) => g.value).join(', ')),
    }[wayOf(rule)],
  ]
  if (rule.when) parts.push(t('when {0}', rule.when))
  if (rule.fallback) parts.push(t('else {0}', rule.fallback))
  if (rule.prefer?.length) parts.push(t('of {0} first', rule.prefer.join(' before ')))
  return parts.join('; ')
}

/** What was typed as a fixed value, as the settings keep it. */
export function literal(text: string): string | number | boolean {
  if (text === 'true' || text === 'false') return text === 'true'
  return /^-?\d+$/.test(text) ? Number(text) : text
}

/** Whether two rules are the same, whatever the order of their members. */
export function same(a: Rule, b: Rule | undefined): boolean {
  const text = (rule: Rule) =>
    JSON.stringify(
      Object.entries(rule)
        .filter(([, v]) => v !== undefined && v !== false && v !== '')
        .sort(([x], [y]) => x.localeCompare(y)),
    )
  return b !== undefined && text(a) === text(b)
}
