import { afterEach, describe, expect, it } from 'vitest'

import { useLive } from '../state/live'
import { mounted, serve } from '../testing/mount'
import Overview from './Overview.vue'

const calm = {
  state: 'well',
  summary: 'Everything is in step',
  attention: [],
  beside: [],
  agents: [],
  directories: [],
  byProblem: [],
  problems: 0,
  revision: 3,
  going: [],
  objects: { entries: 344, linked: 340, suspended: 2, groups: 5, contacts: 3, cloudOnly: 4, dirty: 0 },
  cloud: { url: 'https://cloud.example/scim' },
}

describe('Overview', () => {
  afterEach(() => (document.body.innerHTML = ''))
  async function show(health: object) {
    serve({ 'GET /health': () => health })
    const shown = await mounted(Overview)
    useLive().health = health as never
    await shown.wrapper.vm.$nextTick()
    return shown.wrapper
  }
  it('says nothing is wrong where nothing is', async () => {
    const page = await show(calm)
    expect(page.find('.attention').exists()).toBe(false)
    expect(page.text()).toContain('338') // linked and in scope
  })
  it('leads from what needs attention to where it is mended', async () => {
    const one = { cause: 'Because.', remedy: 'Do this.', remedies: [], count: 1 }
    const page = await show({
      ...calm,
      state: 'broken',
      attention: [
        {
          ...one,
          code: 'removals-held',
          title: 'Removals are held',
          detail: 'run 7 holds 24',
          about: { type: 'run', key: '7' },
          since: '2026-11-25T10:00:00Z',
        },
        {
          ...one,
          code: 'near-miss',
          title: 'Somebody looks like the same person',
          detail: '2 open',
          about: { type: 'entry', key: '' },
          count: 2,
        },
        {
          ...one,
          code: 'database-read-only',
          title: 'The database takes no writes',
          detail: '',
          about: { type: 'service', key: '' },
        },
      ],
    })
    const links = page.findAll('.attention a').map((a) => [a.text(), a.attributes('href')])
    expect(links).toEqual([
      ['Look at run 7', '/run/7'],
      ['Look at them', '/problems?code=near-miss'],
    ])
    expect(page.text()).toContain('run 7 holds 24, since')
    expect(page.findAll('.attention .one')).toHaveLength(3)
  })
})
