import { describe, expect, it } from 'vitest'

import { placeOf } from './places'

describe('places', () => {
  it('leads to the page of what a problem is about', () => {
    const at = (type: string, key: string) => placeOf({ about: { type, key } as never })
    expect(at('entry', 'halvard/3d86-61ab')?.to).toEqual({ name: 'object', params: { id: '3d86-61ab' } })
    expect(at('entry', '')?.to).toEqual({ name: 'problems', query: { code: undefined } })
    expect(at('run', '7')).toEqual({ to: { name: 'run', params: { id: '7' } }, text: 'Look at run 7' })
    expect(at('directory', 'halvard')?.to).toEqual({ name: 'directory', params: { name: 'halvard' } })
    expect(at('service', '')).toBeNull()
  })
})
