// What changes on the service, as server-sent events, and the state of
// everything, which every page shows.
import { defineStore } from 'pinia'
import { onScopeDispose, ref, shallowRef } from 'vue'

import { api, Refusal, unwrap, type Health } from '../api/client'
import { useSession } from './session'

/** Tells that something changed; what it is, is read from its own route. */
export interface Event {
  kind:
    | 'run'
    | 'settings'
    | 'draft'
    | 'agent'
    | 'order'
    | 'repair'
    | 'password'
    | 'digest'
    | 'cloud'
    | 'federation'
    | 'resumed'
    | ''
  id?: number
}

type Listener = (event: Event) => void

const refreshEvery = 20_000 // ms; for what changes without an event, such as an agent falling silent

export const useLive = defineStore('live', () => {
  const health = shallowRef<Health | null>(null)
  const failure = ref<Refusal | null>(null)
  const listeners = new Set<Listener>()
  let source: EventSource | null = null
  let timer = 0
  let pending = 0

  async function refresh(): Promise<void> {
    try {
      health.value = await unwrap(api.GET('/api/v1/health'))
      failure.value = null
    } catch (e) {
      failure.value = e as Refusal
      if (failure.value.status === 401) useSession().ended()
    }
  }

  /** Refreshes soon, once for many events. */
  function soon(): void {
    if (pending) return
    pending = window.setTimeout(() => {
      pending = 0
      void refresh()
    }, 150)
  }

  function start(): void {
    if (source) return
    open()
    timer = window.setInterval(soon, refreshEvery)
    void refresh()
  }

  function open(): void {
    source = new EventSource('/api/v1/events')
    source.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as Event
      listeners.forEach((listener) => listener(event))
      soon()
    }
    source.onopen = soon
    source.onerror = soon
  }

  // A page that is kept for the back button must not hold a connection: a
  // browser has six of them for one service.
  window.addEventListener('pagehide', () => source?.close())
  window.addEventListener('pageshow', (event) => {
    if (event.persisted && source) open()
  })

  function stop(): void {
    source?.close()
    source = null
    window.clearInterval(timer)
    health.value = null
  }

  /** Calls the listener at every event, as long as the component or store that asks for it lives. */
  function listen(listener: Listener): void {
    listeners.add(listener)
    onScopeDispose(() => listeners.delete(listener))
  }

  return { health, failure, start, stop, refresh, listen }
})
