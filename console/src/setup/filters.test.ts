import { describe, expect, it } from 'vitest'

import { escape, offers, toGroup, toText, type Tree } from './filters'

const item = (operator: Tree['operator'], attribute: string, value = '', parts?: string[]): Tree => ({
  operator,
  attribute,
  value,
  parts,
  text: '',
})
const of = (operator: Tree['operator'], ...children: Tree[]): Tree => ({ operator, children, text: '' })

describe('filters', () => {
  it('shows groups and conditions and writes the same filter back', () => {
    const tree = of(
      'and',
      item('=', 'objectClass', 'user'),
      of('not', item('=', 'title', 'Cook')),
      of(
        'or',
        item('substrings', 'cn', '', ['a', '']),
        item('substrings', 'cn', '', ['', 'b', '']),
        item('substrings', 'cn', '', ['', 'c']),
      ),
      item('=*', 'mail'),
      item('>=', 'employeeNumber', '5'),
    )
    const group = toGroup(tree)
    expect(group).not.toBeNull()
    expect(toText(group!)).toBe(
      '(&(objectClass=user)(!(title=Cook))(|(cn=a*)(cn=*b*)(cn=*c))(mail=*)(employeeNumber>=5))',
    )
  })
  it('keeps what it cannot show as text', () => {
    expect(toGroup(of('and', item(':=', 'userAccountControl', '2')))).toBeNull()
    expect(toGroup(item('substrings', 'cn', '', ['a', 'b', 'c']))).toBeNull()
    expect(toGroup(item('~=', 'cn', 'ada'))).toBeNull()
  })
  it('escapes what has a meaning in filters', () => {
    expect(escape('a(b)*\\')).toBe('a\\28b\\29\\2a\\5c')
    expect(toText(toGroup(item('=', 'cn', 'x*y'))!)).toBe('(cn=x\\2ay)')
  })
  it('offers each comparison and its opposite', () => {
    expect(offers.map((offer) => offer.label)).toEqual([
      'is',
      'is not',
      'begins with',
      'does not begin with',
      'ends with',
      'does not end with',
      'contains',
      'does not contain',
      'has a value',
      'has no value',
      'is at least',
      'is not at least',
      'is at most',
      'is not at most',
    ])
  })
  it('leaves conditions out that are not finished', () => {
    expect(toText({ kind: 'group', not: false, all: true, parts: [] })).toBe('')
    expect(
      toText({
        kind: 'group',
        not: true,
        all: false,
        parts: [
          { kind: 'condition', not: false, attribute: ' ', comparison: 'is', value: 'x' },
          { kind: 'condition', not: false, attribute: 'a', comparison: 'is', value: '1' },
        ],
      }),
    ).toBe('(!(a=1))')
  })
})
