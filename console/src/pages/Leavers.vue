<script setup lang="ts">
// Whose resources are deleted when their grace time is over, the first ones first.
import { NButton, NDataTable, type DataTableColumns } from 'naive-ui'
import { h } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Turn from '../parts/Turn.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { count, day, until, when } from '../parts/words'
import Decided from '../setup/Decided.vue'
import { useDecision } from '../setup/use-decision'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

type Leaver = Schemas['Leaver']

const session = useSession()
const pageSize = 50
const cursor = useQuery<string>('cursor', '')
const { data, failure, loading, again } = useLoad(
  () =>
    unwrap(api.GET('/api/v1/leavers', { params: { query: { limit: pageSize, cursor: cursor.value || undefined } } })),
  [cursor],
)
useLive().listen((event) => event.kind === 'run' && void again())
const { asked, decided, busy, ask, decide } = useDecision(
  () => '',
  () => [],
  () => void again(),
  true,
)

const columns: DataTableColumns<Leaver> = [
  {
    title: t('Deleted on'),
    key: 'on',
    width: 160,
    render: (l) => [day(l.on), h('span', { class: 'quiet' }, ` ${until(l.on)}`)],
  },
  { title: t('Kind'), key: 'kind', width: 70 },
  {
    title: t('Name'),
    key: 'name',
    minWidth: 120,
    render: (l) => h(RouterLink, { to: { name: 'object', params: { id: l.entryId } } }, () => l.name),
  },
  {
    title: t('Why'),
    key: 'gone',
    width: 120,
    render: (l) => (l.gone ? t('deleted from {0}', l.directory) : t('out of scope')),
  },
  { title: t('Left'), key: 'left', width: 90, render: (l) => when(l.left) },
  { title: t('Entry'), key: 'dn', width: 280, render: (l) => h(Dn, { dn: l.dn }) },
  {
    title: t('By hand'),
    key: 'act',
    width: 190,
    render: (l) =>
      session.may('operator')
        ? h('div', { class: 'row' }, [
            h(NButton, { size: 'tiny', onClick: () => ask('keep', undefined, l.entryId) }, () => t('Keep…')),
            h(NButton, { size: 'tiny', onClick: () => ask('return', undefined, l.entryId) }, () => t('Return…')),
          ])
        : null,
  },
]
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Leavers</h1>
      <span class="quiet"
        >Their resources are deleted from the cloud when the grace time is over. Who is back in scope before is
        not.</span
      >
      <RouterLink class="push" :to="{ name: 'kept' }">Kept by hand</RouterLink>
      <RouterLink :to="{ name: 'rules' }">Leaver policy</RouterLink>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <template v-else>
      <NDataTable
        :columns="columns"
        :data="data?.items ?? []"
        :loading="loading && !data"
        :row-key="(l: Leaver) => `${l.directory}/${l.entryId}`"
        size="small"
      >
        <template #empty>Nobody: no resource waits for its deletion.</template>
      </NDataTable>
      <Turn v-model:cursor="cursor" :next="data?.next">
        <span class="quiet">{{ count(data?.total ?? 0, 'leaver') }}</span>
      </Turn>
    </template>
    <Decided
      :decided="decided"
      :action="asked?.action ?? 'keep'"
      :name="decided?.entry ?? ''"
      :busy="busy"
      @decide="decide"
      @leave="decided = null"
    />
  </div>
</template>
