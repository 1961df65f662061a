import { flushPromises } from '@vue/test-utils'
import { afterEach, describe, expect, it } from 'vitest'

import { mounted, press, serve } from '../testing/mount'
import Kept from './Kept.vue'

const one = {
  directory: 'halvard',
  entryId: 'e1',
  dn: 'CN=Mira,DC=halvard,DC=example',
  what: 'title would have been emptied',
  runId: 7,
  by: 'ingrid',
  reason: 'a right was lost',
  made: '2026-11-25T10:00:00Z',
}

describe('Kept', () => {
  afterEach(() => (document.body.innerHTML = ''))
  it('shows what stays and why, and lets it be decided again', async () => {
    const asked = serve({
      'GET /kept': () => ({ items: [one], total: 1 }),
      'DELETE /kept/halvard/e1': () => ({ id: 9 }),
    })
    const { wrapper, router } = await mounted(Kept)
    expect(wrapper.text()).toContain('title would have been emptied')
    expect(wrapper.text()).toContain('a right was lost')
    await press('Decide again…')
    await press('Confirm')
    await flushPromises()
    expect(asked.at(-1)?.method).toBe('DELETE')
    expect(router.currentRoute.value.name).toBe('run')
  })
  it('says so where nothing was discarded, and offers a viewer nothing to do', async () => {
    serve({ 'GET /kept': () => ({ items: [], total: 0 }) })
    expect((await mounted(Kept)).wrapper.text()).toContain('Nothing was discarded')
    serve({ 'GET /kept': () => ({ items: [one], total: 1 }) })
    expect((await mounted(Kept, {}, 'viewer')).wrapper.text()).not.toContain('Decide again')
  })
})
