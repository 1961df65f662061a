import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { effectScope, nextTick, ref } from 'vue'

import { Refusal, unwrap } from '../api/client'
import { useSession } from '../state/session'
import { useLoad } from './use-load'

const ended = vi.fn()
beforeEach(() => {
  setActivePinia(createPinia())
  useSession().ended = ended
})

function inScope<T>(work: () => T): T {
  return effectScope().run(work) as T
}

const settled = () => new Promise((done) => setTimeout(done))

describe('useLoad', () => {
  it('keeps the newer answer when an older one comes late', async () => {
    const page = ref(1)
    const answers: Record<number, (value: string) => void> = {}
    const { data, loading } = inScope(() =>
      useLoad(() => new Promise<string>((done) => (answers[page.value] = done)), [page]),
    )
    page.value = 2
    await nextTick()
    answers[2]?.('second')
    await settled()
    answers[1]?.('first')
    await settled()
    expect(data.value).toBe('second')
    expect(loading.value).toBe(false)
  })
  it('keeps what is shown when loading again fails, and says why', async () => {
    let fails = false
    const { data, failure, again } = inScope(() =>
      useLoad(() => (fails ? Promise.reject(new Refusal(500, 'Away', 'later')) : Promise.resolve('shown')), [ref(0)]),
    )
    await settled()
    fails = true
    await again()
    expect(data.value).toBe('shown')
    expect(failure.value?.message).toBe('Away: later')
    fails = false
    await again()
    expect(failure.value).toBeNull()
  })
  it('tells the session when it has ended', async () => {
    const { again } = inScope(() => useLoad(() => Promise.reject(new Refusal(401, 'Sign-in refused', '')), [ref(0)]))
    await again()
    expect(ended).toHaveBeenCalled()
  })
})

describe('unwrap', () => {
  it('gives the data of a success', async () => {
    expect(await unwrap(Promise.resolve({ data: 7, response: new Response() }))).toBe(7)
  })
  it('makes a refusal of a problem, and of silence', async () => {
    const refused = { error: { title: 'Not found', detail: 'no run 9' }, response: new Response(null, { status: 404 }) }
    await expect(unwrap(Promise.resolve(refused))).rejects.toMatchObject({
      status: 404,
      message: 'Not found: no run 9',
    })
    await expect(unwrap(Promise.resolve({ response: new Response(null, { status: 502 }) }))).rejects.toMatchObject({
      title: 'The service answers 502',
    })
    await expect(unwrap(Promise.reject(new TypeError('network')))).rejects.toMatchObject({
      status: 0,
      title: 'The service cannot be reached',
    })
  })
})
