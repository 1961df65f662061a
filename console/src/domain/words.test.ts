import { expect, test } from 'vitest'

import { grouped, madeOf, stateWord } from './words'

test('what nobody has said of a domain is as it was, and else the cloud tells', () => {
  expect(stateWord({ state: 'in-step' }).text).toBe('As it was')
  expect(stateWord({ state: 'in-step', changedAt: '2026-12-01T04:00:00Z' }).text).toBe('In the cloud')
  expect(stateWord({ state: 'drifted', changedAt: '2026-12-01T04:00:00Z' }).tone).toBe('warning')
})

test('a fingerprint is shown in groups, and a claim with what it is made of', () => {
  expect(grouped('0123456789abcdef01')).toBe('01234567 89abcdef 01')
  expect(grouped('')).toBe('')
  expect(madeOf({ from: 'userName' })).toBe('from userName')
  expect(madeOf({ formula: 'resource.id' })).toBe('formula resource.id')
  expect(madeOf({ always: 'x' })).toBe('always x')
})
