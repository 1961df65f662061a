<script setup lang="ts">
// What runs would have taken away and operators have discarded: it stays until its
// cause changes, or until somebody lets it be decided again.
import { NButton, NDataTable, NPopconfirm, type DataTableColumns } from 'naive-ui'
import { computed, h } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Pins from '../desk/Pins.vue'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Turn from '../parts/Turn.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { count, when } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

type Kept = Schemas['Kept']

const pageSize = 50
const session = useSession()
const router = useRouter()
const cursor = useQuery<string>('cursor', '')
const { act } = useAct()
const { data, failure, loading, again } = useLoad(
  () => unwrap(api.GET('/api/v1/kept', { params: { query: { limit: pageSize, cursor: cursor.value || undefined } } })),
  [cursor],
)
useLive().listen((event) => event.kind === 'run' && void again())

async function end(kept: Kept): Promise<void> {
  const path = { directory: kept.directory, id: kept.entryId }
  const run = await act(() => unwrap(api.DELETE('/api/v1/kept/{directory}/{id}', { params: { path } })))
  if (run) await router.push({ name: 'run', params: { id: run.id } })
}

const columns = computed<DataTableColumns<Kept>>(() => [
  {
    title: t('Of'),
    key: 'dn',
    width: 340,
    render: (kept) =>
      h(RouterLink, { to: { name: 'object', params: { id: kept.entryId } } }, () => h(Dn, { dn: kept.dn })),
  },
  { title: t('What would have gone'), key: 'what', minWidth: 200, render: (kept) => kept.what },
  { title: t('Why it stays'), key: 'reason', minWidth: 200, render: (kept) => kept.reason },
  { title: t('By'), key: 'by', width: 100 },
  { title: t('Since'), key: 'made', width: 100, render: (kept) => when(kept.made) },
  ...(session.may('operator')
    ? [
        {
          title: '',
          key: 'end',
          width: 130,
          render: (kept: Kept) =>
            h(
              NPopconfirm,
              { onPositiveClick: () => end(kept) },
              {
                trigger: () => h(NButton, { size: 'tiny' }, () => t('Decide again…')),
                default: () => t('Let a run decide again about all that is kept of this entry?'),
              },
            ),
        },
      ]
    : []),
])
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Kept</h1>
      <span class="quiet"
        >What operators have put back, and what runs would have taken away and operators have discarded.</span
      >
      <RouterLink class="push" :to="{ name: 'runs' }">All runs</RouterLink>
    </div>
    <Pins />
    <Fault v-if="failure" :failure="failure" @again="again" />
    <template v-else>
      <NDataTable
        :columns="columns"
        :data="data?.items ?? []"
        :loading="loading && !data"
        :row-key="(kept: Kept) => `${kept.directory}/${kept.entryId}/${kept.what}`"
        size="small"
      >
        <template #empty
          >Nothing was discarded: whatever a run takes away goes, or waits for somebody to decide.</template
        >
      </NDataTable>
      <Turn v-model:cursor="cursor" :next="data?.next">
        <span class="quiet">{{ count(data?.total ?? 0, 'line') }}</span>
      </Turn>
    </template>
  </div>
</template>
