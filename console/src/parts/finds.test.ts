import { describe, expect, it } from 'vitest'

import type { Schemas } from '../api/client'
import { finds, offered } from './finds'
import { pages } from './pages'

const hit = (name: string): Schemas['Hit'] => ({
  type: 'entry',
  kind: 'user',
  name,
  state: 'in-step',
  entryId: 'e-' + name,
})

describe('what was found', () => {
  it('begins with what is called just so, and ends with the way to all', () => {
    const list = finds(
      {
        objects: [hit('Ada')],
        total: 12,
        others: [
          { sort: 'run', key: '12', name: 'Run 12', exact: true },
          { sort: 'container', key: 'ou=Adams', directory: 'x', name: 'Adams' },
        ],
      },
      'ada',
    )
    expect(list.map((f) => f.name)).toEqual(['Run 12', 'Ada', 'Adams', 'All 12 objects'])
    expect(list.map((f) => f.to)).toEqual([
      { name: 'run', params: { id: '12' } },
      { name: 'object', params: { id: 'e-Ada' } },
      { name: 'objects', query: { text: 'ou=Adams', kind: '' } },
      { name: 'objects', query: { text: 'ada', kind: '' } },
    ])
  })
  it('leads to all only where there is more', () => {
    expect(finds({ objects: [hit('Ada')], total: 1, others: [] }, 'ada')).toHaveLength(1)
  })
})

describe('pages and acts', () => {
  const acts = [
    { name: 'Sync now', words: 'start run', act: () => undefined },
    { name: 'Pause…', words: 'stop', act: () => undefined, off: true },
  ]
  const names = (text: string) => offered(text, pages, acts).map((f) => f.name)
  it('are found by the beginning of any of their words', () => {
    expect(names('exp')).toEqual(['Expectations'])
    expect(names('run')).toEqual(['Runs', 'Sync now'])
    expect(names('yaml set')).toEqual(['Settings as text'])
    expect(names('ada brekke')).toEqual([])
    expect(names('cloud')[0]).toBe('Cloud') // not Cloud groups, which comes before it
  })
  it('are all there while nothing is typed, but what cannot be done', () => {
    expect(names('')).toHaveLength(pages.length + 1)
  })
})
