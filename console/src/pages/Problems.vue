<script setup lang="ts">
// What keeps things from being in step, by what causes it: one cause opens to the things
// that have it, each with a page of its own.
import { NButton, NDataTable, NInput, NSkeleton, NSwitch, type DataTableColumns, type DataTableRowKey } from 'naive-ui'
import { computed, h, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Marks from '../desk/Marks.vue'
import Repairs from '../desk/Repairs.vue'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Tabs from '../parts/Tabs.vue'
import Tag from '../parts/Tag.vue'
import Trend from '../parts/Trend.vue'
import Turn from '../parts/Turn.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useTyped } from '../parts/use-typed'
import { count, day, when } from '../parts/words'
import { language, t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

type Problem = Schemas['Problem']
type View = 'open' | 'closed' | 'kinds'

const pageSize = 50
const session = useSession()
const view = useQuery<View>('view', 'open', 'cursor', 'code', 'text')
const code = useQuery<string>('code', '', 'cursor', 'text')
const mine = useQuery<'yes' | ''>('mine', '', 'cursor')
const run = useQuery<string>('run', '', 'cursor')
const share = useQuery<'new' | 'gone' | 'standing'>('share', 'new', 'cursor')
const text = useQuery<string>('text', '', 'cursor')
const cursor = useQuery<string>('cursor', '')
const typed = useTyped(text)

const groups = useLoad(() => unwrap(api.GET('/api/v1/problems/groups')), [])
const kinds = useLoad(
  async () => (view.value === 'kinds' ? await unwrap(api.GET('/api/v1/problems/kinds')) : []),
  [view],
)
const listed = computed(() => view.value === 'closed' || Boolean(code.value || mine.value || run.value))
const problems = useLoad(
  async () =>
    listed.value
      ? await unwrap(
          api.GET('/api/v1/problems', {
            params: {
              query: {
                code: code.value || undefined,
                closed: view.value === 'closed' || undefined,
                assigned: mine.value ? session.who?.name : undefined,
                run: run.value ? Number(run.value) : undefined,
                share: run.value ? share.value : undefined,
                text: text.value || undefined,
                cursor: cursor.value || undefined,
                limit: pageSize,
              },
            },
          }),
        )
      : null,
  [view, code, mine, run, share, text, cursor],
)
function again(): void {
  chosen.value = []
  void groups.again()
  void problems.again()
}
useLive().listen((event) => event.kind === 'run' && again())

const open = computed(() => (groups.data.value ?? []).filter((g) => g.count > 0))
const solved = computed(() => (groups.data.value ?? []).filter((g) => g.count === 0))
const total = computed(() => open.value.reduce((sum, g) => sum + g.count, 0))
const asleep = computed(() => open.value.reduce((sum, g) => sum + g.asleep, 0))
const group = computed(() => (groups.data.value ?? []).find((g) => g.code === code.value))
const repairable = computed(() =>
  (problems.data.value?.items ?? []).some((p) => p.remedies.some((r) => r.act === 'repair-value')),
)
const chosen = ref<DataTableRowKey[]>([])

const sleeps = (p: Problem) => Boolean(p.asleep && Date.parse(p.asleep) > Date.now())
const columns = computed<DataTableColumns<Problem>>(() => [
  ...(view.value === 'open' && session.may('operator') ? [{ type: 'selection' as const }] : []),
  ...(code.value ? [] : [{ title: t('Problem'), key: 'title', width: 220, render: (p: Problem) => t(p.title) }]),
  {
    title: t('Of'),
    key: 'name',
    width: 330,
    render: (p) =>
      h(RouterLink, { to: { name: 'problem', params: { id: p.id } } }, () =>
        p.dn ? h(Dn, { dn: p.dn }) : p.name || p.about.type,
      ),
  },
  { title: t('What'), key: 'detail', minWidth: 240, render: (p) => h('span', { class: 'wrap' }, p.detail) },
  ...(view.value === 'closed'
    ? [
        {
          title: t('Closed'),
          key: 'closed',
          width: 200,
          render: (p: Problem) => [
            `${when(p.closed)}: ${p.closing ?? ''}`,
            p.closedRun
              ? [
                  ', ',
                  h(RouterLink, { to: { name: 'run', params: { id: p.closedRun } } }, () => t('run {0}', p.closedRun)),
                ]
              : '',
          ],
        },
      ]
    : [
        {
          title: t('Who'),
          key: 'assigned',
          width: 150,
          render: (p: Problem) => [
            p.assigned ?? '',
            sleeps(p) ? h(Tag, { text: t('asleep until {0}', day(p.asleep ?? '')), tone: 'default' }) : '',
            p.note ? h('div', { class: 'quiet' }, p.note) : '',
          ],
        },
      ]),
  {
    title: t('Since'),
    key: 'since',
    width: 110,
    render: (p) => [when(p.since), p.times > 1 ? h('div', { class: 'quiet' }, count(p.times, 'run')) : ''],
  },
])
const views = [
  { value: 'open', text: t('Open') },
  { value: 'closed', text: t('Closed') },
  { value: 'kinds', text: t('All kinds') },
]
const shares = {
  new: t('that run %s has opened'),
  gone: t('that run %s has closed'),
  standing: t('that stood before run %s'),
}
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Problems</h1>
      <span class="quiet" role="status"
        >{{ count(total, 'open problem') }}{{ asleep ? t(', {0} asleep', asleep) : '' }}. Each closes by itself when its
        cause is gone.</span
      >
      <label class="row push"
        ><NSwitch
          aria-label="Only those that I look after"
          :value="mine === 'yes'"
          size="small"
          @update:value="(on: boolean) => (mine = on ? 'yes' : '')"
        />Only those that I look after</label
      >
    </div>
    <Tabs v-model="view" :choices="views" label="Which problems" />
    <Fault v-if="groups.failure.value" :failure="groups.failure.value" @again="again" />
    <NSkeleton v-else-if="!groups.data.value" text :repeat="6" />

    <template v-else-if="view === 'kinds'">
      <section v-for="kind in kinds.data.value ?? []" :key="kind.code" class="sheet kind">
        <strong>{{ t(kind.title) }}</strong> <span class="quiet mono">{{ kind.code }}</span>
        <span class="quiet push">{{ kind.touches ? t('of {0}', kind.touches) : t('answers a request') }}</span>
        <p>{{ t(kind.cause) }} {{ t(kind.remedy) }}</p>
      </section>
    </template>

    <template v-else-if="!listed">
      <section v-if="!open.length" class="sheet note clear">
        <strong>No open problems.</strong>
        <p>
          Whatever keeps somebody from being in step would stand here, with its cause and what to do.
          <template v-if="solved.length"
            >In the last 14 days these were solved: {{ solved.map((g) => t(g.title)).join(', ') }}.</template
          >
        </p>
      </section>
      <RouterLink
        v-for="g in open"
        :key="g.code"
        class="sheet group"
        :class="{ asleep: g.asleep === g.count }"
        :to="{ name: 'problems', query: { code: g.code } }"
      >
        <span class="big">{{ g.count.toLocaleString(language) }}</span>
        <span class="about"
          ><strong>{{ t(g.title) }}</strong
          ><span class="quiet">{{ t(g.cause) }}</span></span
        >
        <span class="quiet facts"
          >since {{ when(g.since) }}<br />{{
            [
              g.asleep ? t('{0} asleep', g.asleep) : '',
              g.assigned ? t('{0} looked after', g.assigned) : t('nobody looks after it'),
            ]
              .filter(Boolean)
              .join(', ')
          }}</span
        >
        <Trend :days="g.days" />
      </RouterLink>
    </template>

    <template v-else>
      <section v-if="group && view === 'open'" class="sheet note">
        <div class="row">
          <strong>{{ t(group.title) }}</strong> <Trend :days="group.days" /><span class="quiet mono push">{{
            group.code
          }}</span>
        </div>
        <p>{{ t(group.cause) }} {{ t(group.remedy) }}</p>
        <div class="row">
          <Repairs v-if="repairable" :of="{ code: group.code }" text="Correct the values of all" @done="again" />
          <Marks :of="{ code: group.code }" :what="t('all {0}', group.count)" @done="again" />
        </div>
      </section>
      <div class="row filters">
        <RouterLink v-if="view === 'open'" :to="{ name: 'problems' }">All causes</RouterLink>
        <span v-if="run" class="row"
          ><strong>{{ shares[share].replace('%s', run) }}</strong
          ><NButton size="tiny" @click="run = ''">Show all</NButton></span
        >
        <NInput
          v-model:value="typed"
          size="small"
          clearable
          placeholder="Name or detail contains"
          style="width: 240px"
          :input-props="{ 'aria-label': t('Name or detail contains') }"
        />
        <template v-if="chosen.length"
          ><Marks :of="{ ids: chosen.map(Number) }" :what="count(chosen.length, 'chosen one')" @done="again"
        /></template>
        <span class="quiet push">{{ count(problems.data.value?.total ?? 0, 'problem') }}</span>
      </div>
      <Fault v-if="problems.failure.value" :failure="problems.failure.value" @again="problems.again" />
      <template v-else>
        <NDataTable
          v-model:checked-row-keys="chosen"
          :columns="columns"
          :data="problems.data.value?.items ?? []"
          :loading="problems.loading.value && !problems.data.value"
          :row-key="(p: Problem) => p.id"
          :row-class-name="(p: Problem) => (sleeps(p) ? 'asleep' : '')"
          size="small"
        >
          <template #empty>{{
            view === 'closed' ? t('No problem was closed in the last 90 days.') : t('No such problem is open.')
          }}</template>
        </NDataTable>
        <Turn v-model:cursor="cursor" :next="problems.data.value?.next" />
      </template>
    </template>
  </div>
</template>

<style scoped>
.group {
  display: grid;
  grid-template-columns: 44px 1fr 190px 90px;
  gap: 14px;
  align-items: center;
  padding: 10px 16px;
  margin-top: 8px;
  color: var(--ink);
}
.group:hover {
  text-decoration: none;
  border-color: var(--accent);
}
.asleep {
  opacity: 0.65;
}
.big {
  font-size: 22px;
  font-weight: 600;
  text-align: right;
}
.about {
  display: flex;
  flex-direction: column;
  gap: 2px;
}
.facts {
  font-size: 12.5px;
}
.note {
  margin: 10px 0;
}
.clear {
  border-left-color: var(--good);
}
.kind {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 10px;
  padding: 8px 14px;
  margin-top: 6px;
}
.kind p {
  flex-basis: 100%;
  margin: 2px 0 0;
}
.filters {
  margin: 10px 0 8px;
}
:deep(.asleep td) {
  opacity: 0.65;
}
:deep(.wrap) {
  overflow-wrap: anywhere;
}
</style>
