import { flushPromises } from '@vue/test-utils'
import { afterEach, describe, expect, it } from 'vitest'

import type { Run } from '../api/client'
import { button, mounted, press, Refused, serve } from '../testing/mount'
import Held from './Held.vue'

const run = {
  id: 7,
  purpose: 'sync',
  counts: {
    held: 32,
    hanging: 5,
    losses: [{ of: 'values', kind: 'user', target: 'title', count: 32, text: 'empty title of 32 people' }],
  },
} as unknown as Run

async function because(text: string): Promise<void> {
  const reason = document.querySelector('textarea')!
  reason.value = text
  reason.dispatchEvent(new Event('input'))
  await flushPromises()
}

describe('Held', () => {
  afterEach(() => (document.body.innerHTML = ''))
  it('says what would be taken away, and what hangs on it', async () => {
    const { wrapper } = await mounted(Held, { run, chosen: [] })
    expect(wrapper.text()).toContain('holds what would empty title of 32 people')
    expect(wrapper.text()).toContain('5 memberships and references')
  })
  it('discards with a reason, and what is chosen alone', async () => {
    const asked = serve({ 'POST /runs/7/discard': () => ({ id: 8 }) })
    const next: Run[] = []
    await mounted(Held, { run, chosen: [4, 5], onNext: (run: Run) => next.push(run) })
    await press('Discard 2 chosen changes…')
    expect(button('Discard').disabled).toBe(true)
    await because('a right was lost')
    await press('Discard')
    expect(asked.at(-1)?.body).toEqual({ changes: [4, 5], reason: 'a right was lost' })
    expect(next).toEqual([{ id: 8 }])
  })
  it('tells why it was refused', async () => {
    serve({ 'POST /runs/7/discard': () => new Refused(400, 'The input is wrong', 'run 7 holds nothing any more') })
    const { messages } = await mounted(Held, { run, chosen: [] })
    await press('Discard all…')
    await because('x')
    await press('Discard')
    expect(messages().join()).toContain('holds nothing any more')
  })
  it('offers nothing to do after a rehearsal', async () => {
    const { wrapper } = await mounted(Held, { run: { ...run, purpose: 'rehearsal' }, chosen: [] })
    expect(wrapper.text()).toContain('would hold')
    expect(wrapper.text()).not.toContain('Release')
  })
})
