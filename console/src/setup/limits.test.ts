import { describe, expect, it } from 'vitest'

import { holdsFrom } from './limits'

describe('limits', () => {
  it('hold what passes the number and the share, both', () => {
    expect(holdsFrom({ number: 20, share: 5 }, 610)).toBe(31)
    expect(holdsFrom({ number: 20, share: 5 }, 100)).toBe(21)
    expect(holdsFrom({ number: 20, share: 5 }, 15)).toBeGreaterThan(15)
    expect(holdsFrom({ number: 0, share: 0 }, 15)).toBe(1)
    expect(holdsFrom({ number: 0, share: 100 }, 15)).toBeGreaterThan(15)
  })
})
