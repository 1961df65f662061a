// Live counts of the scope that is edited, also before it is saved: of many an estimate
// from some comes first, and all are counted once nothing was edited for a while.
import { onScopeDispose, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Refusal, type Schemas } from '../api/client'
import { useDraft } from '../state/draft'

/** How many of a kind are looked at for an estimate. */
const someOfMany = 5000
const whileEditing = 350
const afterEditing = 2000

export function useScopeCounts() {
  const draft = useDraft()
  const counts = shallowRef<Schemas['ScopeCounts'] | null>(null)
  const counting = ref(false)
  const failed = ref<Refusal | null>(null)
  const search = ref('')
  const open = ref('')
  const page = crypto.getRandomValues(new Uint32Array(4)).join('-')
  let turn = 0
  let timer = 0
  const estimated = (answer: Schemas['ScopeCounts']) => answer.kinds.some((kind) => kind.lookedAt)
  async function recount(lookAt: number): Promise<void> {
    if (!draft.document?.directories?.length) return
    const mine = ++turn
    counting.value = true
    try {
      const answer = await unwrap(
        api.POST('/api/v1/scope/preview', {
          body: { document: draft.document, samples: 12, text: search.value, lookAt, page },
        }),
      )
      if (mine !== turn) return
      counts.value = answer
      failed.value = null
      if (estimated(answer)) {
        timer = window.setTimeout(() => void recount(0), afterEditing)
        return // it goes on being counted
      }
    } catch (e) {
      if (mine === turn) failed.value = e as Refusal
    }
    if (mine === turn) counting.value = false
  }
  watch(
    [() => JSON.stringify(draft.document), search],
    () => {
      turn++ // what is under way is of what was
      window.clearTimeout(timer)
      timer = window.setTimeout(() => void recount(someOfMany), counts.value ? whileEditing : 0)
    },
    { immediate: true },
  )
  onScopeDispose(() => window.clearTimeout(timer))
  return { counts, counting, failed, search, open }
}
