import { describe, expect, it } from 'vitest'

import { day } from '../state/palette'
import { series } from './trend'

const one = {
  day: '2026-11-26',
  runs: 2,
  failed: 0,
  created: 3,
  adopted: 1,
  updated: 5,
  restored: 1,
  removed: 2,
  held: 0,
  longest: 1.26,
  opened: 4,
  closed: 1,
  open: 3,
}

describe('trend', () => {
  it('counts what was made and what was changed together', () => {
    expect(series('changes', [one], day).map((s) => [s.name, s.data])).toEqual([
      ['Created', [4]],
      ['Updated', [6]],
      ['Removed', [2]],
    ])
  })
  it('draws what was closed below the line', () => {
    expect(series('problems', [one], day).map((s) => s.data)).toEqual([[4], [-1], [3]])
    expect(series('took', [one], day)[0]?.data).toEqual([1.3])
  })
})
