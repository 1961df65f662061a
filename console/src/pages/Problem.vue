<script setup lang="ts">
// One problem: both sides next to each other, the decisions that led to it, and what can
// be done, right here.
import { NButton, NSkeleton } from 'naive-ui'
import { computed, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { api, unwrap, type ObjectView, type Schemas } from '../api/client'
import Marks from '../desk/Marks.vue'
import Repairs from '../desk/Repairs.vue'
import { sideFacts, sidesOf } from '../desk/sides'
import Acts from '../parts/Acts.vue'
import Fault from '../parts/Fault.vue'
import Held from '../parts/Held.vue'
import { placeOf } from '../parts/places'
import Reasons from '../parts/Reasons.vue'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { count, day, when } from '../parts/words'
import Decide from '../setup/Decide.vue'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const route = useRoute()
const session = useSession()
const id = computed(() => Number(route.params.id))
const {
  data: problem,
  failure,
  again,
} = useLoad(() => unwrap(api.GET('/api/v1/problems/{id}', { params: { path: { id: id.value } } })), [id])
const sides = useLoad(
  async () =>
    problem.value?.about.type === 'entry'
      ? (
          await Promise.all(
            sidesOf(problem.value).map((text) =>
              unwrap(api.GET('/api/v1/object', { params: { query: { text } } })).catch(() => null),
            ),
          )
        ).filter((side): side is ObjectView => side !== null)
      : [],
  [() => problem.value?.id, () => problem.value?.met, () => problem.value?.closed],
)
const next = useLoad(
  async () =>
    (await unwrap(api.GET('/api/v1/problems', { params: { query: { limit: 2, asleep: 'no' } } }))).items.find(
      (p) => p.id !== id.value,
    ) ?? null,
  [id, () => problem.value?.closed],
)
useLive().listen((event) => event.kind === 'run' && void again())

const rows = computed(() => sideFacts(sides.data.value ?? []))
const sleeps = computed(() => Boolean(problem.value?.asleep && Date.parse(problem.value.asleep) > Date.now()))
const has = (act: string) => (problem.value?.remedies ?? []).some((r) => r.act === act)
const rules = computed(() =>
  (problem.value?.remedies ?? []).filter((r) => r.act === 'activate-settings' && r.attribute),
)
const kind = computed(() => `${sides.data.value?.[0]?.entry?.kind ?? 'user'}s`)
const others = computed(() =>
  (problem.value?.remedies ?? []).filter(
    (r) =>
      (r.act === 'activate-settings' && !r.attribute) ||
      [
        'accept-absence',
        'grant-directories',
        ...(held.data.value ? [] : ['release-removals', 'discard-held']),
      ].includes(r.act),
  ),
)
const where = (r: Schemas['Remedy']) =>
  r.act === 'activate-settings'
    ? { name: 'cloud-groups' }
    : r.run
      ? { name: 'run', params: { id: r.run } }
      : (placeOf(problem.value ?? { about: { type: 'service', key: '' } })?.to ?? { name: 'overview' })

const router = useRouter()
// What a run holds is released or discarded right here.
const held = useLoad(async () => {
  const run = problem.value?.closed ? undefined : problem.value?.remedies.find((r) => r.act === 'release-removals')?.run
  return run ? await unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id: Number(run) } } })) : null
}, [() => problem.value?.id, () => problem.value?.met, () => problem.value?.closed])
const { busy, act } = useAct()
const tried = ref(0)
async function tryAgain(): Promise<void> {
  const entry = problem.value?.entryId
  const begun = await act(async () =>
    entry
      ? (await unwrap(api.POST('/api/v1/trials', { body: { text: entry, write: true } }))).runId
      : (await unwrap(api.POST('/api/v1/runs', { body: { purpose: 'sync' } }))).id,
  )
  if (begun) tried.value = begun
  await again()
}
</script>

<template>
  <div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!problem" text :repeat="8" />
    <template v-else>
      <div class="page-head">
        <h1>{{ t(problem.title) }}</h1>
        <Tag v-if="problem.closed" text="Closed" tone="success" />
        <Tag v-else-if="sleeps" :text="t('asleep until {0}', day(problem.asleep ?? ''))" tone="default" />
        <RouterLink class="push" :to="{ name: 'problems', query: { code: problem.code } }">All of this kind</RouterLink>
        <RouterLink v-if="next.data.value" :to="{ name: 'problem', params: { id: next.data.value.id } }"
          >Next problem</RouterLink
        >
        <RouterLink v-else :to="{ name: 'problems' }">All problems</RouterLink>
      </div>
      <section class="sheet note" :class="{ clear: problem.closed }" role="status">
        <template v-if="problem.closed">
          <strong>Closed {{ when(problem.closed) }}: {{ problem.closing }}</strong
          ><template v-if="problem.closedRun"
            >, as
            <RouterLink :to="{ name: 'run', params: { id: problem.closedRun } }"
              >run {{ problem.closedRun }}</RouterLink
            >
            has found</template
          >.
          <p>{{ problem.detail }}</p>
        </template>
        <template v-else>
          <strong>{{ problem.detail || problem.name }}</strong>
          <p>{{ t(problem.cause) }} {{ t(problem.remedy) }}</p>
          <p class="quiet">
            Of
            <RouterLink v-if="placeOf(problem)" :to="placeOf(problem)!.to">{{ problem.name }}</RouterLink><template
              v-else
              >{{ problem.name || problem.about.type }}</template
            >, since {{ when(problem.since)
            }}{{
              problem.times > 1 ? t(', met by {0}, last by run {1}', count(problem.times, 'run'), problem.lastRun) : ''
            }}.
            <template v-if="problem.assigned">{{ problem.assigned }} looks after it. </template>
            <template v-if="problem.note">Note of {{ problem.markedBy }}: {{ problem.note }}</template>
          </p>
          <div class="row">
            <Repairs
              v-if="has('repair-value')"
              :of="{ id: problem.id }"
              :offered="problem.repairs"
              text="Correct the value"
              @done="again"
            />
            <RouterLink
              v-for="r in rules"
              :key="r.attribute"
              class="as-button"
              :title="r.when"
              :to="{ name: 'rules', query: { kind, target: r.attribute } }"
              >{{ r.title }}</RouterLink
            >
            <RouterLink v-for="r in others" :key="r.title" class="as-button" :title="r.when" :to="where(r)">{{
              r.title
            }}</RouterLink>
            <NButton
              v-if="session.may('operator') && (has('sync-one') || has('start-run'))"
              size="small"
              :loading="busy"
              @click="tryAgain"
              >Try again now</NButton
            ><RouterLink v-if="tried" :to="{ name: 'run', params: { id: tried } }">run {{ tried }}</RouterLink>
            <span class="push" />
            <Marks :of="{ ids: [problem.id] }" what="it" :now="problem" @done="again" />
          </div>
          <Decide
            v-if="problem.entryId && sides.data.value?.[0]"
            :entry="problem.entryId"
            :name="sides.data.value[0].why.subject"
            :remedies="problem.remedies"
            :linked="Boolean(sides.data.value[0].link)"
            stay
            @done="again"
          />
        </template>
      </section>
      <Held
        v-if="held.data.value?.counts.held"
        :run="held.data.value"
        :chosen="[]"
        @show="router.push({ name: 'run', params: { id: held.data.value.id }, query: { state: 'held' } })"
        @next="again"
      />
      <section v-if="rows.length" class="sheet">
        <header>
          <h2>{{ (sides.data.value?.length ?? 0) > 1 ? t('Both sides') : t('The entry') }}</h2>
        </header>
        <div class="body scroll">
          <table class="sides">
            <thead>
              <tr>
                <th />
                <th v-for="(side, i) in sides.data.value" :key="i">
                  <RouterLink
                    :to="{ name: 'object', params: { id: side.entry?.id ?? String(side.resource?.id ?? '') } }"
                    >{{ i ? t('The other') : t('This one') }}: {{ side.why.subject }}</RouterLink
                  >
                </th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="row in rows" :key="row.name" :class="{ alike: row.alike }">
                <td class="quiet">{{ row.name }}</td>
                <td v-for="(value, i) in row.values" :key="i">{{ value || '–' }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
      <section v-if="!problem.closed && sides.data.value?.[0]" class="sheet">
        <header><h2>What led to it</h2></header>
        <div class="body"><Reasons :nodes="sides.data.value[0].why.steps" /></div>
      </section>
      <section v-if="problem.acts.length" class="sheet">
        <header><h2>What was done</h2></header>
        <div class="body"><Acts :acts="problem.acts" /></div>
      </section>
    </template>
  </div>
</template>

<style scoped>
.sheet {
  margin-bottom: 14px;
}
.note p {
  margin: 4px 0 6px;
}
.clear {
  border-left-color: var(--good);
}
.scroll {
  overflow-x: auto;
}
.sides {
  table-layout: fixed;
  border-collapse: collapse;
  width: 100%;
}
.sides th {
  text-align: left;
  font-weight: 500;
  padding: 2px 14px 4px 0;
}
.sides td {
  border-top: 1px solid var(--line);
  padding: 4px 14px 4px 0;
  vertical-align: top;
  overflow-wrap: anywhere;
}
.sides th:first-child {
  width: 160px;
}
.alike td:not(:first-child) {
  background: color-mix(in srgb, var(--brass) 18%, transparent);
}
.as-button {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 3px 10px;
  font-size: 13px;
  color: var(--ink);
}
.as-button:hover {
  border-color: var(--accent);
  color: var(--accent);
  text-decoration: none;
}
</style>
