// A filter as a builder shows it: groups of conditions, to and from the text of
// RFC 4515. What the builder cannot show stays text.
import type { Schemas } from '../api/client'
import { t } from '../state/language'

export type Tree = Schemas['TreeNode']
export type Comparison = 'is' | 'begins' | 'ends' | 'contains' | 'present' | 'at-least' | 'at-most'

export interface Condition {
  kind: 'condition'
  not: boolean
  attribute: string
  comparison: Comparison
  value: string
}
export interface Group {
  kind: 'group'
  not: boolean
  all: boolean // and, else or
  parts: Part[]
}
export type Part = Condition | Group

/** What the builder offers: each comparison, and its opposite. */
const comparisons: { value: Comparison; label: string; opposite: string }[] = [
  { value: 'is', label: t('is'), opposite: t('is not') },
  { value: 'begins', label: t('begins with'), opposite: t('does not begin with') },
  { value: 'ends', label: t('ends with'), opposite: t('does not end with') },
  { value: 'contains', label: t('contains'), opposite: t('does not contain') },
  { value: 'present', label: t('has a value'), opposite: t('has no value') },
  { value: 'at-least', label: t('is at least'), opposite: t('is not at least') },
  { value: 'at-most', label: t('is at most'), opposite: t('is not at most') },
]
export const offers = comparisons.flatMap(({ value, label, opposite }) => [
  { value: value as string, label },
  { value: `not ${value}`, label: opposite },
])

export const emptyCondition = (): Condition => ({
  kind: 'condition',
  not: false,
  attribute: '',
  comparison: 'is',
  value: '',
})

/** The filter as a group, or null when it holds something the builder does not show. */
export function toGroup(tree: Tree): Group | null {
  const part = toPart(tree, false)
  if (!part) return null
  return part.kind === 'group' && !part.not ? part : { kind: 'group', not: false, all: true, parts: [part] }
}

function toPart(tree: Tree, not: boolean): Part | null {
  switch (tree.operator) {
    case 'and':
    case 'or': {
      const parts = (tree.children ?? []).map((child) => toPart(child, false))
      return parts.every((part) => part !== null)
        ? { kind: 'group', not, all: tree.operator === 'and', parts: parts as Part[] }
        : null
    }
    case 'not': {
      const inner = tree.children?.[0]
      return inner && inner.operator !== 'not' ? toPart(inner, !not) : null
    }
    case '=':
      return condition(tree, not, 'is')
    case '=*':
      return condition(tree, not, 'present')
    case '>=':
      return condition(tree, not, 'at-least')
    case '<=':
      return condition(tree, not, 'at-most')
    case 'substrings':
      return substrings(tree, not)
    default:
      return null // approximate and extensible matches
  }
}

function condition(tree: Tree, not: boolean, comparison: Comparison, value = tree.value ?? ''): Condition {
  return { kind: 'condition', not, attribute: tree.attribute ?? '', comparison, value }
}

function substrings(tree: Tree, not: boolean): Condition | null {
  const parts = tree.parts ?? []
  const filled = parts.filter((part) => part !== '')
  if (filled.length !== 1 || parts.length > 3) return null
  const at = parts.findIndex((part) => part !== '')
  const comparison = at === 0 ? 'begins' : at === parts.length - 1 ? 'ends' : 'contains'
  return condition(tree, not, comparison, filled[0])
}

/** The text of a group; a condition without an attribute is left out. */
export function toText(group: Group): string {
  const parts = group.parts.map(partText).filter((text) => text !== '')
  if (parts.length === 0) return ''
  const text = parts.length === 1 ? (parts[0] as string) : `(${group.all ? '&' : '|'}${parts.join('')})`
  return group.not ? `(!${text})` : text
}

function partText(part: Part): string {
  if (part.kind === 'group') return toText(part)
  const name = part.attribute.trim()
  if (!name) return ''
  const value = escape(part.value)
  const item = {
    is: `(${name}=${value})`,
    begins: `(${name}=${value}*)`,
    ends: `(${name}=*${value})`,
    contains: `(${name}=*${value}*)`,
    present: `(${name}=*)`,
    'at-least': `(${name}>=${value})`,
    'at-most': `(${name}<=${value})`,
  }[part.comparison]
  return part.not ? `(!${item})` : item
}

/** Escapes a value as RFC 4515 section 3 asks. */
export function escape(value: string): string {
  return value.replace(/[\\*()\0]/g, (c) => '\\' + c.charCodeAt(0).toString(16).padStart(2, '0'))
}
