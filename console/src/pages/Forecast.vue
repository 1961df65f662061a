<script setup lang="ts">
// What would become of everybody, before anything is written: who is linked,
// adopted, created, and where somebody must decide.
import { NButton, NDataTable, NInput, NPagination, NSkeleton, type DataTableColumns } from 'naive-ui'
import { computed, h } from 'vue'
import { RouterLink } from 'vue-router'

import { api, orNull, unwrap, type Change, type Schemas } from '../api/client'
import Diffs from '../parts/Diffs.vue'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Turn from '../parts/Turn.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useRun } from '../parts/use-run'
import { useTyped } from '../parts/use-typed'
import { count, took, when } from '../parts/words'
import Decide from '../setup/Decide.vue'
import { outcomeWord, tiles } from '../setup/outcomes'
import { language, t } from '../state/language'
import { useSession } from '../state/session'

const pageSize = 50
const session = useSession()
const outcome = useQuery<string>('outcome', '', 'cursor')
const kind = useQuery<'user' | 'group' | 'contact' | ''>('kind', '', 'cursor')
const text = useQuery<string>('text', '', 'cursor')
const cursor = useQuery<string>('cursor', '')
const typed = useTyped(text)

const forecast = useLoad(() => orNull(unwrap(api.GET('/api/v1/forecasts/{id}', { params: { path: { id: 0 } } }))), [])
const kinds = useLoad(() => unwrap(api.GET('/api/v1/problems/kinds')), [])
const problem = computed(() => kinds.data.value?.find((k) => k.code === outcome.value))
const listed = computed(() => !['linked', 'unclaimed'].includes(outcome.value))
const operations = ['create', 'adopt', 'update', 'restore', 'suspend', 'leave', 'delete']
function chosenBy(outcome: string): { operation?: Change['operation']; code?: string } {
  if (operations.includes(outcome)) return { operation: outcome as Change['operation'] }
  return outcome ? { operation: 'none', code: outcome } : {}
}
const changes = useLoad(async () => {
  const run = forecast.data.value?.run
  if (!run || !listed.value) return null
  return await unwrap(
    api.GET('/api/v1/runs/{id}/changes', {
      params: {
        path: { id: run.id },
        query: {
          ...chosenBy(outcome.value),
          kind: kind.value || undefined,
          text: text.value || undefined,
          limit: pageSize,
          cursor: cursor.value || undefined,
        },
      },
    }),
  )
}, [() => forecast.data.value?.run.id, outcome, kind, text, cursor, () => kinds.data.value])
const unclaimed = useLoad(
  async () =>
    forecast.data.value && outcome.value === 'unclaimed'
      ? await unwrap(
          api.GET('/api/v1/forecasts/{id}/unclaimed', {
            params: {
              path: { id: forecast.data.value.run.id },
              query: {
                kind: kind.value || undefined,
                text: text.value || undefined,
                limit: pageSize,
                cursor: cursor.value || undefined,
              },
            },
          }),
        )
      : null,
  [() => forecast.data.value?.run.id, outcome, kind, text, cursor],
)

const exported = computed(() => {
  const query = new URLSearchParams(
    Object.entries({ ...chosenBy(outcome.value), kind: kind.value, text: text.value }).filter(([, value]) => value) as [
      string,
      string,
    ][],
  )
  return `/api/v1/runs/${forecast.data.value?.run.id ?? 0}/changes.csv?${query}`
})
const { running, start } = useRun((run) => run.purpose === 'forecast', forecast.again)
const forecastNow = (draft: boolean) => start(() => unwrap(api.POST('/api/v1/forecasts', { body: { draft } })))

const groups = computed(() =>
  tiles(
    forecast.data.value?.outcomes ?? [],
    (code) => t(kinds.data.value?.find((k) => k.code === code)?.title) || code,
  ),
)
function choose(tile: { kind: Schemas['Outcome']['kind']; outcome: string }): void {
  const here = outcome.value === tile.outcome && kind.value === tile.kind
  outcome.value = here ? '' : tile.outcome
  kind.value = here ? '' : tile.kind
}
const decides = (change: Change) => change.remedies.length > 0
const columns: DataTableColumns<Change> = [
  {
    type: 'expand',
    expandable: (c) => decides(c) || c.diffs.length > 0,
    renderExpand: (c) =>
      decides(c)
        ? h(Decide, {
            entry: c.entryId,
            name: c.name,
            remedies: c.remedies,
            onDone: () => void forecast.again(),
          })
        : h(Diffs, { diffs: c.diffs }),
  },
  { title: t('Kind'), key: 'kind', width: 80 },
  {
    title: t('Object'),
    key: 'name',
    width: 380,
    render: (c) =>
      h('div', [
        h('div', [h(RouterLink, { to: { name: 'object', params: { id: c.entryId } } }, () => c.name)]),
        h(Dn, { dn: c.dn, class: 'quiet' }),
      ]),
  },
  {
    title: t('Would be'),
    key: 'operation',
    width: 160,
    render: (c) =>
      c.operation === 'none' && c.state !== 'noted'
        ? h('span', { class: 'bad' }, t(kinds.data.value?.find((k) => k.code === c.code)?.title) || c.code)
        : outcomeWord(c.state === 'noted' ? (c.code ?? '') : c.operation),
  },
  {
    title: t('By'),
    key: 'answer',
    render: (c) =>
      c.answer ||
      (c.operation === 'adopt' ? (c.diffs[0]?.source ?? '') : c.diffs.length ? count(c.diffs.length, 'attribute') : ''),
  },
]
const cloudColumns: DataTableColumns<Schemas['CloudOnly']> = [
  { title: t('Kind'), key: 'kind', width: 80 },
  {
    title: t('Name'),
    key: 'name',
    render: (r) => h(RouterLink, { to: { name: 'object', params: { id: r.id } } }, () => r.name),
  },
  { title: t('Login'), key: 'login' },
  { title: t('Active'), key: 'active', width: 80, render: (r) => (r.active ? 'yes' : 'no') },
]
const page = computed(() => (outcome.value === 'unclaimed' ? unclaimed.data.value : changes.data.value))
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Forecast</h1>
      <span v-if="forecast.data.value" class="quiet"
        >of {{ when(forecast.data.value.run.ended) }} by
        {{
          forecast.data.value.run.draft
            ? t('draft version {0}', forecast.data.value.run.draft)
            : t('settings revision {0}', forecast.data.value.run.revision)
        }}: {{ forecast.data.value.run.counts.planned.toLocaleString(language) }} looked at in
        {{ took(forecast.data.value.run.started, forecast.data.value.run.ended)
        }}<template v-if="forecast.data.value.run.counts.needs"
          >; to carry it out takes {{ forecast.data.value.run.counts.needs.text }}</template
        ></span
      >
      <template v-if="session.may('operator')">
        <NButton class="push" size="small" type="primary" :loading="Boolean(running)" @click="forecastNow(false)"
          >Forecast now</NButton
        >
        <NButton size="small" :disabled="Boolean(running)" @click="forecastNow(true)">By the draft</NButton>
      </template>
    </div>
    <p v-if="running" class="quiet" role="status">
      {{
        running.stage === 'plan'
          ? t('Planned {0}', running.counts.planned.toLocaleString(language))
          : t('Reading what changed')
      }}… You can leave this page.
    </p>
    <Fault v-if="forecast.failure.value" :failure="forecast.failure.value" @again="forecast.again" />
    <NSkeleton v-else-if="forecast.loading.value && !forecast.data.value" text :repeat="6" />
    <section v-else-if="!forecast.data.value" class="sheet empty">
      <p>
        Nothing was forecast yet. A forecast decides about everybody as a run would and writes nothing: who is linked,
        who takes over an account that is there, who gets a new one, and where somebody in the cloud looks so much like
        the same person that you should decide.
      </p>
    </section>
    <template v-else>
      <div class="kinds">
        <section v-for="group in groups" :key="group.kind" class="sheet" :aria-label="group.text">
          <header>
            <h2>{{ group.text }}</h2>
            <strong>{{ group.total.toLocaleString(language) }}</strong>
          </header>
          <button
            v-for="tile in group.tiles"
            :key="tile.outcome + tile.rule"
            type="button"
            class="tile"
            :class="{ here: outcome === tile.outcome && kind === tile.kind, [tile.tone]: true }"
            :aria-pressed="outcome === tile.outcome && kind === tile.kind"
            @click="choose(tile)"
          >
            <span
              >{{ tile.text }}<small v-if="tile.rule" class="quiet"> {{ tile.rule }}</small></span
            ><strong>{{ tile.count.toLocaleString(language) }}</strong>
          </button>
        </section>
      </div>
      <p v-if="problem" class="means">
        <strong>{{ t(problem.title) }}.</strong> {{ t(problem.cause) }} {{ t(problem.remedy) }}
      </p>
      <p v-else-if="outcome === 'linked'" class="means">
        They have their resource already, and it is as the rules make it: nothing is done.
        <RouterLink :to="{ name: 'objects', query: { state: 'in-step', kind } }">See them among the objects</RouterLink
        >.
      </p>
      <p v-else-if="outcome === 'same-person'" class="means">
        A person rule says that they are one person with an entry of another directory, so they share its resource.
        <RouterLink :to="{ name: 'rules' }">See the person rules</RouterLink>.
      </p>
      <p v-else-if="outcome === 'unclaimed'" class="means">
        They are in the cloud, and no entry in a directory has or would have them. Kambrel leaves them alone.
      </p>
      <div class="row tools">
        <NInput
          v-model:value="typed"
          size="small"
          clearable
          placeholder="Name or login contains"
          style="width: 230px"
          :input-props="{ 'aria-label': t('Name or login contains'), type: 'search' }"
        />
        <span v-if="page" class="quiet" role="status"
          >{{ page.atLeast ? t('more than ') : '' }}{{ page.total.toLocaleString(language) }}
          {{ outcome ? t('of them') : t('decisions and problems') }}</span
        >
        <NButton v-if="outcome || kind" size="tiny" quaternary @click="choose({ kind: kind || 'user', outcome })"
          >Show all</NButton
        >
        <a v-if="listed" class="push" :href="exported" :download="`forecast-${forecast.data.value.run.id}.csv`"
          >Export CSV</a
        >
      </div>
      <Fault v-if="changes.failure.value" :failure="changes.failure.value" @again="changes.again" />
      <NDataTable
        v-else-if="outcome === 'unclaimed'"
        :columns="cloudColumns"
        :data="unclaimed.data.value?.items ?? []"
        :row-key="(r: Schemas['CloudOnly']) => r.id"
        size="small"
        ><template #empty>Everything in the cloud is claimed.</template></NDataTable
      >
      <NDataTable
        v-else-if="listed"
        :columns="columns"
        :data="changes.data.value?.items ?? []"
        :row-key="(c: Change) => c.id"
        size="small"
        ><template #empty>{{
          outcome || text ? t('Nobody fits this choice.') : t('Nothing would change: everybody is in step.')
        }}</template></NDataTable
      >
      <div v-if="outcome === 'unclaimed' && (page?.total ?? 0) > pageSize" class="row foot">
        <NPagination
          :page="Math.floor(Number(cursor || 0) / pageSize) + 1"
          :page-size="pageSize"
          :item-count="page?.total ?? 0"
          @update:page="(n: number) => (cursor = n === 1 ? '' : String((n - 1) * pageSize))"
        />
      </div>
      <Turn v-else-if="listed" v-model:cursor="cursor" :next="changes.data.value?.next" />
    </template>
  </div>
</template>

<style scoped>
.kinds {
  display: grid;
  grid-template-columns: 1.3fr 1fr 1fr;
  gap: 14px;
  align-items: start;
  margin-bottom: 12px;
}
.tile {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  width: 100%;
  background: none;
  border: 0;
  border-bottom: 1px solid var(--line);
  font: inherit;
  color: inherit;
  padding: 5px 14px;
  cursor: pointer;
  text-align: left;
}
.tile:last-child {
  border-bottom: 0;
}
.tile:hover {
  color: var(--accent);
}
.tile.here {
  background: color-mix(in srgb, var(--brass) 18%, transparent);
  box-shadow: inset 3px 0 var(--brass);
}
.tile.bad strong {
  color: var(--bad);
}
.tile.warn strong {
  color: var(--warn);
}
.foot {
  margin-top: 10px;
}
.empty {
  padding: 18px;
  max-width: 720px;
}
@media (max-width: 1000px) {
  .kinds {
    grid-template-columns: 1fr;
  }
}
</style>
