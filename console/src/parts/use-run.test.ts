import { beforeEach, describe, expect, it, vi } from 'vitest'
import { effectScope, nextTick, reactive } from 'vue'

import type { Run } from '../api/client'
import { useRun } from './use-run'

const told = vi.fn()
const asked = vi.fn()
const live = reactive({
  health: null as { current?: Run; beside?: Run[] } | null,
  listen: (listener: (event: { kind: string; id?: number }) => void) => (happens = listener),
})
let happens: (event: { kind: string; id?: number }) => void = () => {}
vi.mock('naive-ui', () => ({ useMessage: () => ({ error: told }) }))
vi.mock('../state/live', () => ({ useLive: () => live }))
vi.mock('../api/client', () => ({
  api: { GET: (...args: unknown[]) => asked(...args) as unknown },
  unwrap: (answer: unknown) => answer,
}))

const run = (id: number, more: Partial<Run> = {}) => ({ id, purpose: 'survey', ...more }) as Run
const settled = () => new Promise((done) => setTimeout(done))

describe('useRun', () => {
  const ended = vi.fn(() => Promise.resolve())
  const use = () => effectScope().run(() => useRun((one) => one.purpose === 'survey', ended))!
  beforeEach(() => {
    vi.clearAllMocks()
    live.health = null
  })
  it('follows what it started to the end, and tells the end once', async () => {
    const { running, start } = use()
    asked.mockResolvedValue(run(7, { stage: 'read' }))
    await start(() => Promise.resolve(run(7)))
    expect(running.value?.stage).toBe('read')
    asked.mockResolvedValue(run(7, { ended: '2026-11-23T10:00:00Z' }))
    happens({ kind: 'run', id: 8 })
    happens({ kind: 'run', id: 7 })
    happens({ kind: 'run', id: 7 })
    await settled()
    expect(running.value).toBeNull()
    expect(ended).toHaveBeenCalledTimes(1)
    expect(told).not.toHaveBeenCalled()
  })
  it('finds its run under way when the page is opened again, and no other', async () => {
    const { running } = use()
    live.health = { current: run(3, { purpose: 'sync' }) }
    await nextTick()
    expect(running.value).toBeNull()
    live.health = { current: run(3, { purpose: 'sync' }), beside: [run(4)] }
    await nextTick()
    expect(running.value?.id).toBe(4)
    asked.mockResolvedValue(run(4, { ended: '2026-11-23T10:00:00Z' }))
    happens({ kind: 'run', id: 4 })
    await settled()
    expect(ended).toHaveBeenCalledTimes(1)
  })
  it('says why a run failed, and why none could be started', async () => {
    const { running, start } = use()
    asked.mockResolvedValue(
      run(5, {
        ended: '2026-11-23T10:00:00Z',
        failure: {
          code: 'directory-unreachable',
          title: 'The directory cannot be reached',
          detail: 'halvard',
        } as Run['failure'],
      }),
    )
    await start(() => Promise.resolve(run(5)))
    expect(told.mock.calls[0]?.[0]).toBe('The directory cannot be reached: halvard')
    expect(ended).toHaveBeenCalledTimes(1)
    await start(() => Promise.reject(new Error('no agent')))
    expect(told.mock.calls[1]?.[0]).toBe('no agent')
    expect(running.value).toBeNull()
  })
})
