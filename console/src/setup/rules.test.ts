import { expect, test } from 'vitest'

import { byWay, inWords, literal, same, wayOf } from './rules'

test('a rule made another way keeps what still holds and drops the rest', () => {
  const rule = { target: 'title', from: 'title', when: 'true', required: true }
  expect(byWay(rule, 'formula')).toEqual({ target: 'title', formula: 'entry.title', when: 'true', required: true })
  expect(byWay(rule, 'granted')).toEqual({ target: 'title', granted: [{ group: '', value: '' }], when: 'true' })
  expect(byWay(rule, 'reference')).toEqual({ target: 'title', reference: 'manager' })
  expect(byWay({ ...rule, prefer: ['brisling'] }, 'formula').prefer).toEqual(['brisling'])
  expect(wayOf(byWay(rule, 'always'))).toBe('always')
})

test('a rule is told in one line', () => {
  expect(inWords({ target: 'title', from: 'title', fallback: '"Crew"' })).toBe('from title; else "Crew"')
  expect(inWords({ target: 'members', reference: 'member' })).toBe('the linked members of the group')
  expect(inWords({ target: 'title', from: 'title', prefer: ['brisling', 'halvard'] })).toBe(
    'from title; of brisling before halvard first',
  )
})

test('fixed values are read as what they are', () => {
  expect([literal('true'), literal('12'), literal('nn-NO')]).toEqual([true, 12, 'nn-NO'])
})

test('a rule is the same as its default whatever is left out', () => {
  expect(same({ target: 'a', from: 'b', required: false }, { from: 'b', target: 'a' })).toBe(true)
  expect(same({ target: 'a', from: 'b' }, { target: 'a', from: 'c' })).toBe(false)
})
