// Loads what a page shows, again whenever what it depends on changes. An older
// answer never overwrites a newer one.
import { ref, shallowRef, watch, type WatchSource } from 'vue'

import { Refusal } from '../api/client'
import { t } from '../state/language'
import { useSession } from '../state/session'

export function useLoad<T>(load: () => Promise<T>, depends: WatchSource[] = []) {
  const data = shallowRef<T | null>(null)
  const failure = ref<Refusal | null>(null)
  const loading = ref(false)
  let turn = 0

  async function again(): Promise<void> {
    const mine = ++turn
    loading.value = true
    try {
      const loaded = await load()
      if (mine !== turn) return
      data.value = loaded
      failure.value = null
    } catch (e) {
      if (mine !== turn) return
      failure.value = e instanceof Refusal ? e : new Refusal(0, t('This page has failed'), String(e))
      if (failure.value.status === 401) useSession().ended()
    } finally {
      if (mine === turn) loading.value = false
    }
  }

  watch(depends, () => void again(), { immediate: true })
  return { data, failure, loading, again }
}
