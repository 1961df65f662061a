// Live counts of the scope that is edited, also before it is saved.
import { ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Refusal, type Schemas } from '../api/client'
import { useDraft } from '../state/draft'

export function useScopeCounts() {
  const draft = useDraft()
  const counts = shallowRef<Schemas['ScopeCounts'] | null>(null)
  const counting = ref(false)
  const failed = ref<Refusal | null>(null)
  const search = ref('')
  const open = ref('')
  let turn = 0
  let timer = 0
  async function recount(): Promise<void> {
    if (!draft.document?.directories?.length) return
    const mine = ++turn
    counting.value = true
    try {
      const answer = await unwrap(
        api.POST('/api/v1/scope/preview', { body: { document: draft.document, samples: 12, text: search.value } }),
      )
      if (mine === turn) {
        counts.value = answer
        failed.value = null
      }
    } catch (e) {
      if (mine === turn) failed.value = e as Refusal
    } finally {
      if (mine === turn) counting.value = false
    }
  }
  watch(
    [() => JSON.stringify(draft.document), search],
    () => {
      window.clearTimeout(timer)
      timer = window.setTimeout(() => void recount(), counts.value ? 350 : 0)
    },
    { immediate: true },
  )
  return { counts, counting, failed, search, open }
}
