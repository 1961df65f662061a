// A run that a page starts, or finds under way, and follows to its end.
import { useMessage } from 'naive-ui'
import { shallowRef, watch } from 'vue'

import { api, unwrap, type Run } from '../api/client'
import { t } from '../state/language'
import { useLive } from '../state/live'

export function useRun(mine: (run: Run) => boolean, ended: () => Promise<void>) {
  const live = useLive()
  const message = useMessage()
  const running = shallowRef<Run | null>(null)
  const refused = (text: string) => void message.error(text, { duration: 9000, closable: true })

  async function follow(id: number): Promise<void> {
    const run = await unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id } } }))
    if (running.value?.id !== id) return // its end was told already
    running.value = run.ended ? null : run
    if (!run.ended) return
    if (run.failure) refused(`${t(run.failure.title)}: ${run.failure.detail}`)
    await ended()
  }

  async function start(ask: () => Promise<Run>): Promise<void> {
    try {
      running.value = await ask()
      await follow(running.value.id)
    } catch (e) {
      refused((e as Error).message)
    }
  }

  live.listen((event) => {
    if (event.kind === 'run' && event.id !== undefined && event.id === running.value?.id) void follow(event.id)
  })
  watch(
    () => [live.health?.current, ...(live.health?.beside ?? [])].find((run) => run && mine(run)),
    (found) => {
      if (found && !running.value) running.value = found
    },
    { immediate: true },
  )
  return { running, start }
}
