import { describe, expect, it } from 'vitest'
import { createApp, nextTick } from 'vue'
import { createMemoryHistory, createRouter } from 'vue-router'

import { useQuery } from './use-query'

async function page(address: string) {
  const router = createRouter({ history: createMemoryHistory(), routes: [{ path: '/:page', component: {} }] })
  const app = createApp({})
  app.use(router)
  await router.push(address)
  const place = app.runWithContext(() => ({
    text: useQuery<string>('text', '', 'page'),
    kind: useQuery<string>('kind', 'user', 'page'),
    page: useQuery('page', '1'),
  }))
  let steps = 0
  router.afterEach(() => void steps++)
  const settled = async () => {
    await nextTick()
    await new Promise((done) => setTimeout(done))
  }
  return { ...place, router, steps: () => steps, settled }
}

describe('useQuery', () => {
  it('reads what the address says, and else what is usual', async () => {
    const { text, kind } = await page('/objects?text=ada')
    expect(text.value).toBe('ada')
    expect(kind.value).toBe('user')
  })
  it('writes into the address, without what is usual', async () => {
    const { kind, router, settled } = await page('/objects?text=ada')
    kind.value = 'group'
    await settled()
    expect(router.currentRoute.value.fullPath).toBe('/objects?text=ada&kind=group')
    kind.value = 'user'
    await settled()
    expect(router.currentRoute.value.fullPath).toBe('/objects?text=ada')
  })
  it('goes back to the first page when another list is asked for', async () => {
    const { text, page: number, settled, router } = await page('/objects?page=7')
    expect(number.value).toBe('7')
    text.value = 'bo'
    await settled()
    expect(router.currentRoute.value.query).toEqual({ text: 'bo' })
  })
  it('makes one step of what is set in one go', async () => {
    const { text, kind, router, steps, settled } = await page('/objects?page=3')
    text.value = 'bo'
    kind.value = 'contact'
    await settled()
    expect(router.currentRoute.value.query).toEqual({ text: 'bo', kind: 'contact' })
    expect(steps()).toBe(1)
    router.back()
    await settled()
    expect(router.currentRoute.value.query).toEqual({ page: '3' })
  })
})
