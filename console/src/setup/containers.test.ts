import { describe, expect, it } from 'vitest'

import { marksOf, pasted, rowsOf, toggled, type Container } from './containers'

const none = { users: 0, groups: 0, contacts: 0 }
const node = (dn: string, parent: number): Container => ({ dn, parent, name: dn, here: none, below: none })
const tree = [
  node('DC=x', -1),
  node('OU=Fleet,DC=x', 0),
  node('OU=Deck,OU=Fleet,DC=x', 1),
  node('OU=Galley,OU=Fleet,DC=x', 1),
  node('OU=Shore,DC=x', 0),
]
const states = (include: string[], exclude: string[]) =>
  rowsOf(tree, marksOf({ include, exclude })).map((row) => (row.mixed ? 'mixed' : (row.state ?? 'out')))

describe('containers', () => {
  it('lets the nearest mark decide', () => {
    expect(states(['ou=fleet, dc=x'], ['OU=Galley,OU=Fleet,DC=x'])).toEqual([
      'mixed',
      'mixed',
      'include',
      'exclude',
      'out',
    ])
    expect(states(['DC=x'], [])).toEqual(['include', 'include', 'include', 'include', 'include'])
    expect(states([], ['OU=Shore,DC=x'])).toEqual(['out', 'out', 'out', 'out', 'exclude'])
  })
  it('needs no mark for what the parent says already', () => {
    const start = { include: ['OU=Fleet,DC=x'], exclude: [] as string[] }
    const rows = rowsOf(tree, marksOf(start))
    const out = toggled(start, rows[2]!, rows[1]!.state)
    expect(out).toEqual({ include: ['OU=Fleet,DC=x'], exclude: ['OU=Deck,OU=Fleet,DC=x'] })
    const again = rowsOf(tree, marksOf(out))
    expect(toggled(out, again[2]!, again[1]!.state)).toEqual(start)
    expect(toggled(start, rows[1]!, rows[0]!.state)).toEqual({ include: [], exclude: [] })
  })
  it('marks pasted names and tells the lines that are none', () => {
    const { next, wrong } = pasted({ include: [], exclude: ['OU=Fleet,DC=x'] }, 'ou=fleet,dc=x\n\nFleet\n', 'include')
    expect(next).toEqual({ include: ['ou=fleet,dc=x'], exclude: [] })
    expect(wrong).toEqual(['line 3: “Fleet” is no distinguished name'])
  })
})
