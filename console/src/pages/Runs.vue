<script setup lang="ts">
import { NButton, NDataTable, NSelect, NSwitch, useMessage, type DataTableColumns } from 'naive-ui'
import { computed, h, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { api, unwrap, type Run } from '../api/client'
import Fault from '../parts/Fault.vue'
import RunCounts from '../parts/RunCounts.vue'
import Tag from '../parts/Tag.vue'
import Turn from '../parts/Turn.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { runKind, runPurposes, runWord, took, when } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const pageSize = 25
const session = useSession()
const message = useMessage()
const router = useRouter()
const state = useQuery<Run['state'] | ''>('state', '', 'cursor')
const purpose = useQuery<Run['purpose'] | ''>('purpose', '', 'cursor')
const all = useQuery<'yes' | ''>('all', '', 'cursor')
const cursor = useQuery<string>('cursor', '')
const busy = ref('')

const { data, failure, loading, again } = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/runs', {
        params: {
          query: {
            limit: pageSize,
            cursor: cursor.value || undefined,
            state: state.value || undefined,
            purpose: purpose.value || undefined,
            changed: all.value === 'yes' || state.value || purpose.value ? undefined : true,
          },
        },
      }),
    ),
  [state, purpose, all, cursor],
)
useLive().listen((event) => event.kind === 'run' && void again())

const states = [
  { label: t('All states'), value: '' },
  { label: t('In step'), value: 'in-step' },
  { label: t('With problems'), value: 'problems' },
  { label: t('Failed'), value: 'failed' },
  { label: t('Running'), value: 'running' },
  { label: t('Waiting'), value: 'waiting' },
  { label: t('Cancelled'), value: 'cancelled' },
]
const purposes = [{ label: t('All purposes'), value: '' }, ...runPurposes]
const columns = computed<DataTableColumns<Run>>(() => [
  {
    title: t('Run'),
    key: 'id',
    width: 80,
    render: (run) => h(RouterLink, { to: { name: 'run', params: { id: run.id } } }, () => t('Run {0}', run.id)),
  },
  { title: t('For'), key: 'purpose', width: 190, render: (run) => runKind(run) },
  { title: t('State'), key: 'state', width: 170, render: (run) => h(Tag, runWord(run)) },
  { title: t('Changes'), key: 'counts', render: (run) => h(RunCounts, { counts: run.counts }) },
  { title: t('Started'), key: 'started', width: 165, render: (run) => (run.started ? when(run.started) : 'waits') },
  { title: t('Took'), key: 'took', width: 90, render: (run) => took(run.started, run.ended) },
  { title: t('By'), key: 'by', width: 120 },
])

async function start(purpose: 'full' | 'rehearsal' | 'forecast'): Promise<void> {
  busy.value = purpose
  try {
    const run = await unwrap(api.POST('/api/v1/runs', { body: { purpose } }))
    await router.push({ name: 'run', params: { id: run.id } })
  } catch (e) {
    message.error((e as Error).message)
  } finally {
    busy.value = ''
  }
}
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Runs</h1>
      <NSelect v-model:value="state" :options="states" size="small" style="width: 150px" aria-label="State" />
      <NSelect v-model:value="purpose" :options="purposes" size="small" style="width: 190px" aria-label="Purpose" />
      <label class="row"
        ><NSwitch
          aria-label="Also runs that changed nothing"
          :value="all === 'yes'"
          size="small"
          @update:value="(on: boolean) => (all = on ? 'yes' : '')"
        />Also runs that changed nothing</label
      >
      <div v-if="session.may('operator')" class="row push">
        <NButton size="small" :loading="busy === 'rehearsal'" @click="start('rehearsal')">Rehearse</NButton>
        <NButton size="small" :loading="busy === 'forecast'" @click="start('forecast')">Forecast everybody</NButton>
        <NButton size="small" :loading="busy === 'full'" @click="start('full')">Full run</NButton>
      </div>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <template v-else>
      <NDataTable
        :columns="columns"
        :data="data?.items ?? []"
        :loading="loading && !data"
        :row-key="(run: Run) => run.id"
        size="small"
        :bordered="true"
      >
        <template #empty>{{
          state || purpose
            ? t('No run fits this choice.')
            : all
              ? t('No run yet. “Sync now” starts the first one.')
              : t('No run has changed anything yet.')
        }}</template>
      </NDataTable>
      <Turn v-model:cursor="cursor" :next="data?.next">
        <span class="quiet"
          >{{ data?.total ?? 0 }} in all. Runs that changed nothing are kept for a day.
          <RouterLink :to="{ name: 'kept' }">What was put back or discarded, and stays</RouterLink>,
          <RouterLink :to="{ name: 'leavers' }">who is deleted later</RouterLink></span
        >
      </Turn>
    </template>
  </div>
</template>
