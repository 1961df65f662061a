<script setup lang="ts">
// One run, live while it goes on, and its changes with before and after.
import { NButton, NDataTable, NInput, NProgress, NSelect, NSkeleton, type DataTableColumns } from 'naive-ui'
import { computed, h, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { api, unwrap, type Change } from '../api/client'
import Undo from '../desk/Undo.vue'
import Diffs from '../parts/Diffs.vue'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Held from '../parts/Held.vue'
import RunCounts from '../parts/RunCounts.vue'
import RunProblems from '../parts/RunProblems.vue'
import Tag from '../parts/Tag.vue'
import Turn from '../parts/Turn.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useTyped } from '../parts/use-typed'
import {
  changeWord,
  count,
  counted,
  kindWords,
  operationWords,
  rehearses,
  runKind,
  runWord,
  shortTarget,
  stageWords,
  took,
  when,
} from '../parts/words'
import { language, t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const pageSize = 50
const route = useRoute()
const router = useRouter()
const session = useSession()
const id = computed(() => Number(route.params.id))
const kind = useQuery<Change['kind'] | ''>('kind', '', 'cursor')
const operation = useQuery<Change['operation'] | ''>('operation', '', 'cursor')
const state = useQuery<Change['state'] | ''>('state', '', 'cursor')
const text = useQuery<string>('text', '', 'cursor')
const cursor = useQuery<string>('cursor', '')
const typed = useTyped(text)

const {
  data: run,
  failure,
  again,
} = useLoad(() => unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id: id.value } } })), [id])
const changes = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/runs/{id}/changes', {
        params: {
          path: { id: id.value },
          query: {
            limit: pageSize,
            cursor: cursor.value || undefined,
            kind: kind.value || undefined,
            operation: operation.value || undefined,
            state: state.value || undefined,
            without:
              state.value || operation.value || kind.value || text.value || rehearses(run.value)
                ? undefined
                : 'blocked',
            text: text.value || undefined,
          },
        },
      }),
    ),
  [id, kind, operation, state, text, cursor, () => run.value?.purpose],
)
useLive().listen((event) => {
  if (event.kind === '' || (event.kind === 'run' && event.id === id.value)) {
    void again()
    void changes.again()
  }
})

const ended = computed(() => Boolean(run.value?.ended))
const paused = computed(() => run.value?.stages.find((stage) => stage.pausedUntil)?.pausedUntil)
const progress = computed(() => {
  const c = run.value?.counts
  return c && c.changes ? Math.round(((c.done + c.failed) / c.changes) * 100) : 0
})
const stageTexts = computed(() => {
  const c = run.value?.counts
  if (!c) return {} as Record<string, string>
  const entries = t(
    '{0} ({1} changed, {2} gone)',
    count(c.entriesRead, 'entry', 'entries'),
    c.entriesChanged,
    c.entriesGone,
  )
  return {
    read: t('{0}, {1} ({2} changed)', entries, count(c.resourcesRead, 'resource'), c.resourcesChanged),
    plan: t(
      '{0} looked at, {1}{2}',
      count(c.planned, 'entry', 'entries'),
      count(c.changes, 'change'),
      c.held ? t(', {0} held', c.held) : '',
    ),
    write: t('{0} done, {1} failed', c.done, c.failed),
    survey: t('{0} looked at, {1}', (c.surveyed ?? 0).toLocaleString(language), count(c.findings ?? 0, 'finding')),
  } as Record<string, string>
})
const stages = computed(() => {
  if (run.value?.purpose === 'look') return ['read']
  if (run.value?.purpose === 'survey') return ['read', 'survey']
  return rehearses(run.value) ? ['read', 'plan'] : ['read', 'plan', 'write']
})
const plans = computed(() => stages.value.includes('plan'))
const operations = [
  { label: t('All operations'), value: '' },
  ...Object.entries(operationWords).map(([value, label]) => ({ label, value })),
  { label: t('problem'), value: 'none' },
]
const kinds = [
  { label: t('All kinds'), value: '' },
  ...Object.entries(kindWords).map(([value, label]) => ({ label, value })),
]
const states = [
  { label: t('All states'), value: '' },
  ...[
    'done',
    'failed',
    'held',
    'discarded',
    'blocked',
    'unconfirmed',
    'unanswered',
    'planned',
    'sent',
    'superseded',
  ].map((value) => ({ label: changeWord({ state: value as Change['state'] }, false).text, value })),
]

/** What is written to a directory is a group that the cloud owns. */
const placeOf = (change: Change) =>
  change.side === 'directory'
    ? { name: 'cloud-group', params: { directory: change.directory, group: change.resourceId } }
    : { name: 'object', params: { id: change.entryId } }

const columns = computed<DataTableColumns<Change>>(() => [
  ...(state.value === 'held' && session.may('operator') && !rehearses(run.value)
    ? [{ type: 'selection' as const, disabled: (change: Change) => Boolean(change.hangs) }]
    : []),
  {
    type: 'expand',
    expandable: (change) => change.diffs.length > 0 || Boolean(change.answer),
    renderExpand: (change) =>
      h('div', [
        change.answer ? h('p', { class: 'bad', style: 'margin: 0 0 8px' }, change.answer) : null,
        change.diffs.length ? h(Diffs, { diffs: change.diffs }) : null,
      ]),
  },
  {
    title: t('Operation'),
    key: 'operation',
    width: 100,
    render: (change) => operationWords[change.operation] ?? t('nothing'),
  },
  { title: t('Kind'), key: 'kind', width: 80, render: (change) => kindWords[change.kind] ?? change.kind },
  {
    title: t('Object'),
    key: 'name',
    width: 400,
    render: (change) =>
      h('div', [
        h('div', [
          h(RouterLink, { to: placeOf(change), class: 'in-text' }, () => change.name),
          change.side === 'directory' ? h('span', { class: 'quiet' }, t(' kept in {0}', change.directory)) : null,
        ]),
        h(Dn, { dn: change.dn, class: 'quiet' }),
      ]),
  },
  {
    title: t('What changes'),
    key: 'diffs',
    render: (change) => change.answer || change.diffs.map((diff) => shortTarget(diff.target)).join(', '),
  },
  { title: t('State'), key: 'state', width: 130, render: (change) => h(Tag, changeWord(change, rehearses(run.value))) },
])

const { act } = useAct()
const cancel = () => act(() => unwrap(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id: id.value } } })))
const chosen = ref<number[]>([])
watch([id, kind, operation, state, text, cursor], () => (chosen.value = []))
function showHeld(): void {
  state.value = 'held'
}
</script>

<template>
  <div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!run" text :repeat="5" />
    <template v-else>
      <div class="page-head">
        <h1>Run {{ run.id }}</h1>
        <Tag v-bind="runWord(run)" />
        <span class="quiet"
          >{{ runKind(run) }} by {{ run.by }},
          {{ run.draft ? t('draft version {0}', run.draft) : t('settings revision {0}', run.revision) }},
          {{ run.started ? t('started {0}', when(run.started)) : t('not started')
          }}{{ ended ? t(', took {0}', took(run.started, run.ended)) : '' }}</span
        >
        <span v-if="run.undoes" class="quiet"
          >puts back what
          <RouterLink :to="{ name: 'run', params: { id: run.undoes } }">run {{ run.undoes }}</RouterLink> has done</span
        >
        <span class="push" />
        <Undo
          v-if="plans && !rehearses(run) && run.counts.done > 0"
          :run="run"
          @next="(next) => router.push({ name: 'run', params: { id: next } })"
        />
        <a v-if="plans && ended" :href="`/api/v1/runs/${run.id}/changes.csv`" download>CSV</a>
        <RouterLink :to="{ name: 'runs' }">All runs</RouterLink>
      </div>
      <section v-if="run.failure" class="sheet note" role="alert">
        <strong class="bad">{{ t(run.failure.title) }}</strong> {{ run.failure.detail }}
        <p>{{ t(run.failure.cause) }} {{ t(run.failure.remedy) }}</p>
      </section>
      <section v-for="left in run.leftOut" :key="left.directory + left.detail" class="sheet note" role="alert">
        <strong v-if="!left.directory" class="warn">Went on while {{ left.detail }}</strong>
        <strong v-else class="warn"
          >Went on without {{ left.attributes ? t('{0} of ', left.attributes.join(', ')) : '' }}{{ left.directory }}:
          {{ t(left.title) }}</strong
        >
        <p v-if="!left.directory">What has changed is taken up when it goes on.</p>
        <p v-else-if="left.attributes">
          {{ left.detail }}. What entries had of it stays as it was, and nothing follows from its absence.
          <RouterLink :to="{ name: 'directory', params: { name: left.directory } }">Look at the directory</RouterLink>
        </p>
        <p v-else>
          {{ left.detail }}. Its entries stay as they were, and what other directories gave was synced. The next run
          tries again.
          <RouterLink :to="{ name: 'directory', params: { name: left.directory } }">Look at the directory</RouterLink>
        </p>
      </section>
      <Held
        v-if="run.counts.held && ended"
        :run="run"
        :chosen="chosen"
        @show="showHeld"
        @next="(next) => router.push({ name: 'run', params: { id: next.id } })"
      />
      <section class="sheet stages" aria-label="Stages" aria-live="polite">
        <div v-for="name in stages" :key="name" class="stage" :class="{ now: run.stage === name }">
          <h2>
            {{ stageWords[name] ?? name
            }}<span class="quiet took">{{
              took(run.stages.find((s) => s.name === name)?.started, run.stages.find((s) => s.name === name)?.ended)
            }}</span>
          </h2>
          <div>{{ run.stages.some((s) => s.name === name) ? stageTexts[name] : t('not begun') }}</div>
        </div>
      </section>
      <p v-if="paused && !ended" class="warn" role="status">
        The cloud asks to wait until {{ when(paused) }}.
        {{ count(run.counts.changes - run.counts.done - run.counts.failed, 'change') }}
        {{ run.stage === 'write' ? t('left') : t('planned so far') }}; the run goes on by itself.
      </p>
      <NProgress
        v-if="!ended && run.stage === 'write'"
        type="line"
        :percentage="progress"
        :height="8"
        :show-indicator="false"
        style="margin-bottom: 12px"
      />
      <p v-if="!plans && ended && !run.failure">
        <RouterLink v-if="run.purpose === 'survey'" :to="{ name: 'survey' }">Look at the findings</RouterLink>
        <template v-else
          >The mirror holds the directories now; nothing was planned or written.
          <RouterLink :to="{ name: 'scope' }">Choose who takes part</RouterLink></template
        >
      </p>
      <NButton v-if="!ended && (rehearses(run) || !plans) && session.may('operator')" size="small" @click="cancel"
        >Cancel</NButton
      >
      <template v-if="plans">
        <RunCounts :counts="run.counts" class="counts" />
        <RunProblems v-if="ended" :run="run" />
        <div class="page-head filters">
          <h2>Changes</h2>
          <NSelect v-model:value="kind" :options="kinds" size="small" style="width: 120px" aria-label="Kind" />
          <NSelect
            v-model:value="operation"
            :options="operations"
            size="small"
            style="width: 150px"
            aria-label="Operation"
          />
          <NSelect v-model:value="state" :options="states" size="small" style="width: 140px" aria-label="State" />
          <NInput
            v-model:value="typed"
            size="small"
            clearable
            placeholder="Login or name contains"
            style="width: 220px"
            :input-props="{ 'aria-label': t('Login or name contains') }"
          />
          <span class="quiet push">{{ counted(changes.data.value, 'line') }}</span>
        </div>
        <Fault v-if="changes.failure.value" :failure="changes.failure.value" @again="changes.again" />
        <NDataTable
          v-else
          v-model:checked-row-keys="chosen"
          :columns="columns"
          :data="changes.data.value?.items ?? []"
          :row-key="(change: Change) => change.id"
          size="small"
          :loading="changes.loading.value && !changes.data.value"
        >
          <template #empty>{{
            kind || operation || state || text
              ? t('No change fits this choice.')
              : ended
                ? t('Nothing had to change: everything was in step.')
                : t('No changes planned yet.')
          }}</template>
        </NDataTable>
        <Turn v-model:cursor="cursor" :next="changes.data.value?.next" />
      </template>
    </template>
  </div>
</template>

<style scoped>
.stages {
  display: grid;
  grid-auto-flow: column;
  grid-auto-columns: 1fr;
  margin-bottom: 10px;
}
.stage {
  padding: 9px 14px;
  border-top: 3px solid transparent;
}
.stage + .stage {
  border-left: 1px solid var(--line);
}
.stage.now {
  border-top-color: var(--brass);
}
.stage h2 {
  display: flex;
  justify-content: space-between;
  text-transform: capitalize;
  margin-bottom: 2px;
}
.took {
  font-weight: 400;
  font-size: 12.5px;
  text-transform: none;
}
.counts {
  margin: 0 0 16px 2px;
}
.filters {
  margin-bottom: 8px;
}
</style>
