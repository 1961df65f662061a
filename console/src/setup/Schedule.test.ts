import { flushPromises } from '@vue/test-utils'
import { afterEach, describe, expect, it } from 'vitest'

import { mounted, serve } from '../testing/mount'
import { useDraft } from '../state/draft'
import Schedule from './Schedule.vue'

const draft = (schedule: object) => ({ version: 0, document: { schedule }, differences: [], active: 1 })

describe('Schedule', () => {
  afterEach(() => (document.body.innerHTML = ''))
  it('edits the draft, and tells when the next runs would be', async () => {
    const asked = serve({
      'GET /settings/draft': () => draft({ every: '2m', hours: { from: '06:00', to: '20:00', days: ['mon'] } }),
      'POST /schedule/times': () => ({ faults: [], next: ['2026-12-01T06:00:00Z'], within: false }),
    })
    const { wrapper } = await mounted(Schedule)
    await flushPromises()
    expect(wrapper.text()).toContain('Next runs, in your time')
    expect(wrapper.text()).toContain('What was missed is made up once')
    const from = wrapper.find('input[aria-label="From"]')
    await from.setValue('07:00')
    await flushPromises()
    expect(useDraft().document?.schedule.hours?.from).toBe('07:00')
    expect(asked.at(-1)?.body).toMatchObject({ hours: { from: '07:00' } })
  })
  it('says what is wrong, and where nothing starts by itself', async () => {
    serve({
      'GET /settings/draft': () => draft({ every: 'off' }),
      'POST /schedule/times': () => ({ faults: [], next: [], within: true }),
    })
    expect((await mounted(Schedule)).wrapper.text()).toContain('none: runs start by hand only')
    serve({
      'GET /settings/draft': () => draft({ every: '1s' }),
      'POST /schedule/times': () => ({ faults: [{ path: 'schedule.every', message: 'too short' }], next: [] }),
    })
    expect((await mounted(Schedule)).wrapper.text()).toContain('schedule.every: too short')
  })
})
