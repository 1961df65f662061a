// A decision about one entry: what can be decided, what that would do, and the deed.
import { computed, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap, type ObjectView, type Schemas } from '../api/client'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { show } from '../parts/words'
import { t } from '../state/language'

export type Action = Schemas['NewDecision']['action']
type Remedy = Schemas['Remedy']

// What an act is called as a decision.
const actions: Record<string, Action> = {
  link: 'link',
  merge: 'merge',
  create: 'create',
  unlink: 'hold',
  rematch: 'forget',
  'take-over': 'take-over',
  swap: 'swap',
}

/** What people compare of a resource. */
export const factsOf = (object: ObjectView | null): [string, string][] => {
  const r = (object?.resource ?? {}) as Record<string, unknown>
  const emails = ((r.emails ?? []) as { value?: string }[]).map((m) => m.value ?? '').join(', ')
  const roles = ((r.roles ?? []) as { value?: string }[]).map((m) => m.value ?? '').join(', ')
  return (
    [
      [t('Login'), show(r.userName)],
      [t('Name'), show(r.displayName)],
      [t('Addresses'), emails],
      [t('Roles'), roles],
      [t('Active'), show(r.active)],
    ] as [string, string][]
  ).filter(([, value]) => value)
}

export function useDecision(entry: () => string, remedies: () => Remedy[], done: () => void, stay = false) {
  const router = useRouter()
  const links = computed(() => remedies().filter((r) => r.act === 'link' && r.resource))
  const others = computed(() =>
    remedies().flatMap((r) => {
      const action = actions[r.act]
      return action && action !== 'link' ? [{ ...r, action }] : []
    }),
  )

  // The other side: what the cloud has.
  const { data: sides } = useLoad(
    async () =>
      await Promise.all(
        links.value.slice(0, 5).map(async (r) => ({
          id: r.resource ?? '',
          object: await unwrap(api.GET('/api/v1/object', { params: { query: { text: r.resource ?? '' } } })).catch(
            () => null,
          ),
        })),
      ),
    [() => links.value.map((r) => r.resource).join()],
  )

  // What was asked and would be done, until it is done or left.
  const asked = shallowRef<{ entry: string; action: Action; resource?: string } | null>(null)
  const decided = shallowRef<Schemas['Decided'] | null>(null)
  const { busy, act } = useAct()
  async function ask(action: Action, resource?: string, of = entry()): Promise<void> {
    const body = { entry: of, action, resource }
    const answer = await act(() => unwrap(api.POST('/api/v1/decisions', { body })))
    if (!answer) return
    decided.value = answer
    asked.value = body
  }
  async function decide(): Promise<void> {
    const body = asked.value
    if (!body) return
    const answer = await act(() => unwrap(api.POST('/api/v1/decisions', { body: { ...body, do: true } })))
    if (!answer) return
    decided.value = null
    done()
    if (answer.runId && !stay) await router.push({ name: 'run', params: { id: answer.runId } })
  }
  const other = ref('')
  return { sides, others, asked, decided, busy, ask, decide, other }
}
