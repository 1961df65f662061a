import { describe, expect, it } from 'vitest'

import { count, runKind, runWord, shortTarget, show, took, until, when, heldRemovals, heldText } from './words'

describe('words', () => {
  it('shows values as people write them', () => {
    expect(show(null)).toBe('')
    expect(show(false)).toBe('false')
    expect(show(['a', 'b'])).toBe('a | b')
    expect(show([{ value: 'x' }])).toBe('[{"value":"x"}]')
  })
  it('leaves the URN of an extension out', () => {
    expect(shortTarget('urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department')).toBe('department')
    expect(shortTarget('emails[type eq "work"].value')).toBe('emails[type eq "work"].value')
  })
  it('tells readings, surveys and impacts from runs', () => {
    expect(runWord({ purpose: 'look', state: 'in-step' }).text).toBe('Read')
    expect(runWord({ purpose: 'survey', state: 'problems' }).text).toBe('With findings')
    expect(runWord({ purpose: 'rehearsal', state: 'cancelled' }).text).toBe('Cancelled')
    expect([runKind({ purpose: 'full' }), runKind({ purpose: 'rehearsal' }), runKind({ purpose: 'impact' })]).toEqual([
      'sync of everything',
      'rehearsal',
      'impact of the draft',
    ])
  })
  it('tells times and durations', () => {
    expect(took('2026-01-01T10:00:00Z', '2026-01-01T10:00:01.25Z')).toBe('1.3 s')
    expect(took('2026-01-01T10:00:00Z', '2026-01-01T10:02:05Z')).toBe('2 min 5 s')
    expect(took(undefined)).toBe('')
    expect(when(undefined)).toBe('never')
    expect(when('2026-01-01T10:00:00Z', new Date('2026-02-01T10:00:00Z'))).toContain('2026-01-01')
    expect(until('2026-01-01T10:00:30Z', Date.parse('2026-01-01T10:00:00Z'))).toBe('in 30 s')
    expect(until('2026-01-01T10:00:00Z', Date.parse('2026-01-01T10:00:10Z'))).toBe('within seconds')
  })
  it('counts', () => {
    expect(count(1, 'change')).toBe('1 change')
    expect(count(1200, 'change')).toBe('1,200 changes')
  })
  it('tells what a run holds', () => {
    const counts = (losses: unknown[]) => ({ counts: { held: 7, losses } }) as unknown as Parameters<typeof heldText>[0]
    const run = counts([
      { of: 'removals', count: 3, text: 'suspend or delete 3 people' },
      { of: 'values', count: 4, text: 'empty title of 4 people' },
    ])
    expect(heldText(run)).toBe('suspend or delete 3 people, empty title of 4 people')
    expect(heldRemovals(run)).toBe(3)
    expect(heldText(counts([]))).toBe('suspend or delete 7')
  })

  it('tells a rehearsal from a run', () => {
    expect(runWord({ purpose: 'rehearsal', state: 'in-step' }).text).toBe('Rehearsed')
    expect(runWord({ purpose: 'sync', state: 'running', stage: 'plan' }).text).toBe('Running: plan')
  })
})
