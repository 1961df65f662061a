import { describe, expect, it } from 'vitest'

import type { ObjectView } from '../api/client'
import { sideFacts, sidesOf } from './sides'

describe('sides', () => {
  it('names who has the problem first, and never the own resource', () => {
    const facts = {
      entries: [{ id: 'e2', directory: 'x', name: 'CN=Bo' }],
      resources: [
        { id: 'r1', name: 'own' },
        { id: 'r2', name: 'other' },
      ],
    }
    expect(sidesOf({ entryId: 'e1', resourceId: 'r1', facts: facts as never })).toEqual(['e1', 'e2', 'r2'])
  })
  it('marks what stands on both sides', () => {
    const why = { summary: 'in', subject: 's' }
    const mira = {
      entry: {
        dn: 'CN=Mira',
        directory: 'halvard',
        attributes: { userPrincipalName: ['mt@x'], mail: ['mira@x'], displayName: ['Mira'] },
      },
      why,
    }
    const account = { resource: { id: 'r2', userName: 'MIRA@x', displayName: 'M.' }, why }
    const rows = sideFacts([mira, account] as unknown as ObjectView[])
    expect(rows.filter((row) => row.alike).map((row) => row.name)).toEqual(['Addresses'])
    expect(rows.find((row) => row.name === 'Login in the cloud')?.values).toEqual(['', 'MIRA@x'])
    expect(sideFacts([])).toEqual([])
  })
})
