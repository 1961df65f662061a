<script setup lang="ts">
// Who did what, when, from where, with before and after, and what came of it.
import { NDatePicker, NInput, NSelect, NSkeleton } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Acts from '../parts/Acts.vue'
import Fault from '../parts/Fault.vue'
import Turn from '../parts/Turn.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useTyped } from '../parts/use-typed'
import { count } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'

const kind = useQuery<string>('kind', '', 'cursor')
const by = useQuery<string>('by', '', 'cursor')
const text = useQuery<string>('text', '', 'cursor')
const result = useQuery<Schemas['Act']['result'] | ''>('result', '', 'cursor')
const since = useQuery<string>('since', '', 'cursor')
const until = useQuery<string>('until', '', 'cursor')
const cursor = useQuery<string>('cursor', '')
const typed = useTyped(text)
const typedBy = useTyped(by)
const range = computed({
  get: (): [number, number] | null =>
    since.value && until.value ? [Date.parse(since.value), Date.parse(until.value)] : null,
  set: (days: [number, number] | null) => {
    since.value = days ? new Date(days[0]).toISOString() : ''
    until.value = days ? new Date(days[1]).toISOString() : ''
  },
})
const query = computed(() => ({
  kind: kind.value || undefined,
  by: by.value || undefined,
  text: text.value || undefined,
  result: result.value || undefined,
  since: since.value || undefined,
  until: until.value || undefined,
}))
const { data, failure, loading, again } = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/acts', {
        params: { query: { ...query.value, limit: 50, cursor: cursor.value || undefined } },
      }),
    ),
  [query, cursor],
)
useLive().listen((event) => event.kind === 'run' && !cursor.value && void again())
const known = useLoad(() => unwrap(api.GET('/api/v1/acts/kinds')), [])
const kinds = computed(() => [
  { label: t('All acts'), value: '' },
  ...(known.data.value ?? []).map((k) => ({ label: k.title, value: k.kind })),
])
const results = [
  { label: t('Any result'), value: '' },
  { label: t('Done'), value: 'done' },
  { label: t('Refused'), value: 'refused' },
  { label: t('Failed'), value: 'failed' },
]
const csv = computed(() => {
  const given = Object.entries(query.value).filter((pair): pair is [string, string] => Boolean(pair[1]))
  return '/api/v1/acts.csv?' + new URLSearchParams(given).toString()
})
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Audit</h1>
      <span class="quiet" role="status">{{ count(data?.total ?? 0, 'act') }}</span>
      <RouterLink class="push" :to="{ name: 'report' }">Report</RouterLink>
      <RouterLink :to="{ name: 'notices' }">Notices</RouterLink>
      <a :href="csv" download>CSV</a>
    </div>
    <div class="row filters">
      <NSelect v-model:value="kind" :options="kinds" size="small" filterable style="width: 270px" aria-label="Act" />
      <NInput
        v-model:value="typedBy"
        size="small"
        clearable
        placeholder="By whom"
        style="width: 130px"
        :input-props="{ 'aria-label': t('By whom') }"
      />
      <NInput
        v-model:value="typed"
        size="small"
        clearable
        placeholder="Name, note or value contains"
        style="width: 220px"
        :input-props="{ 'aria-label': t('Name, note or value contains') }"
      />
      <NSelect v-model:value="result" :options="results" size="small" style="width: 120px" aria-label="Result" />
      <NDatePicker v-model:value="range" type="datetimerange" size="small" clearable style="width: 330px" />
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="6" />
    <section v-else class="sheet" :aria-busy="loading">
      <div class="body">
        <p v-if="!data.items.length" class="quiet">Nothing like that was done.</p>
        <Acts v-else :acts="data.items" things />
      </div>
    </section>
    <Turn v-model:cursor="cursor" :next="data?.next" />
  </div>
</template>

<style scoped>
.filters {
  margin-bottom: 10px;
  flex-wrap: wrap;
}
</style>
