import { expect, test } from 'vitest'

import { outcomeWord, tiles } from './outcomes'

test('problems stand after what is done and before what nobody claims', () => {
  const groups = tiles(
    [
      { kind: 'user', outcome: 'unclaimed', count: 2 },
      { kind: 'user', outcome: 'near-miss', count: 1 },
      { kind: 'user', outcome: 'create', count: 5 },
      { kind: 'user', outcome: 'adopt', rule: 'same login', count: 1 },
      { kind: 'group', outcome: 'linked', count: 3 },
    ],
    (code) => `title of ${code}`,
  )
  expect(groups[0]?.tiles.map((t) => t.text)).toEqual(['Adopted', 'Created', 'title of near-miss', 'In the cloud only'])
  expect(groups[0]?.tiles[0]?.rule).toBe('by same login')
  expect(groups[0]?.total).toBe(7)
  expect(groups[1]?.total).toBe(3)
  expect(groups[2]?.tiles).toEqual([])
})

test('an outcome that is a problem keeps its code', () => {
  expect([outcomeWord('create'), outcomeWord('near-miss')]).toEqual(['created', 'near-miss'])
})
