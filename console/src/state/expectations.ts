// What the draft expects of entries, or the active settings where there is no draft, and
// whether it holds by them.
import { defineStore } from 'pinia'

import { api, unwrap } from '../api/client'
import { useLoad } from '../parts/use-load'
import { useDraft } from './draft'
import { useLive } from './live'

export const useExpectations = defineStore('expectations', () => {
  const draft = useDraft()
  const live = useLive()
  const asks = () => Boolean(draft.saved?.document.expect?.length && !draft.saved.faults.length)
  const { data, failure, loading, again } = useLoad(
    async () =>
      asks() ? await unwrap(api.GET('/api/v1/settings/expectations', { params: { query: { draft: true } } })) : null,
    // A run that has ended may have changed what entries are; each of its steps does not.
    [() => draft.saved?.version, () => draft.saved?.active, () => live.health?.lastRun?.id],
  )
  return { data, failure, loading, again }
})
