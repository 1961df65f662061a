// Who is signed in.
import { defineStore } from 'pinia'
import { ref } from 'vue'

import { api, Refusal, unwrap, type Schemas } from '../api/client'

export const useSession = defineStore('session', () => {
  const who = ref<Schemas['Session'] | null>(null)
  const known = ref(false)

  /** Finds out whether a session goes on; asks the service once. */
  async function restore(): Promise<void> {
    if (known.value) return
    try {
      who.value = await unwrap(api.GET('/api/v1/session'))
    } catch (e) {
      if (!(e instanceof Refusal) || e.status !== 401) throw e
      who.value = null
    }
    known.value = true
  }

  async function signIn(credentials: Schemas['Credentials']): Promise<void> {
    who.value = await unwrap(api.POST('/api/v1/session', { body: credentials }))
    known.value = true
  }

  async function signOut(): Promise<void> {
    await unwrap(api.DELETE('/api/v1/session'))
    who.value = null
  }

  /** Ends all sessions of the operator, this one too. */
  async function signOutEverywhere(): Promise<void> {
    await unwrap(api.DELETE('/api/v1/session/everywhere'))
    who.value = null
  }

  async function changePassword(current: string, password: string): Promise<void> {
    await unwrap(api.PUT('/api/v1/session/password', { body: { current, password } }))
  }

  /** The session has ended on the service. */
  function ended(): void {
    who.value = null
  }

  const may = (least: 'operator' | 'administrator') =>
    who.value?.role === 'administrator' || (least === 'operator' && who.value?.role === 'operator')

  return { who, known, restore, signIn, signOut, signOutEverywhere, changePassword, ended, may }
})
