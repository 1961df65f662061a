<script setup lang="ts">
// The state of everything on one page: what it is, what it means, what to do.
import { NSkeleton } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap } from '../api/client'
import Trend from '../desk/Trend.vue'
import Fault from '../parts/Fault.vue'
import Going from '../parts/Going.vue'
import RunCounts from '../parts/RunCounts.vue'
import { placeOf } from '../parts/places'
import { useLoad } from '../parts/use-load'
import Tag from '../parts/Tag.vue'
import { count, runKind, runWord, took, until, when, type Tone } from '../parts/words'
import { language, t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const live = useLive()
const session = useSession()
const trend = useLoad(
  () => unwrap(api.GET('/api/v1/health/trend', { params: { query: { days: 30 } } })),
  [() => live.health?.lastRun?.id],
)
const health = computed(() => live.health)
// What is paused stands above every page.
const attention = computed(() => (health.value?.attention ?? []).filter((one) => one.code !== 'paused'))
const agentTone: Record<string, Tone> = { online: 'success', offline: 'error', 'never-seen': 'default' }
// Who begins is led on; once people are in step, nobody is asked for it any more.
const day = useLoad(
  async () =>
    session.may('administrator') && health.value && !health.value.lastRun ? unwrap(api.GET('/api/v1/first-day')) : null,
  [() => live.health?.revision, () => live.health?.agents.length, () => live.health?.lastRun?.id],
)
const next = computed(() =>
  day.data.value?.begun ? undefined : day.data.value?.steps.find((s) => s.key === day.data.value?.next),
)
const numbers = computed(() => {
  const o = health.value?.objects
  if (!o) return []
  return [
    { n: o.entries, text: t('users in directories'), to: { name: 'objects' } },
    { n: o.linked - o.suspended, text: t('linked and in scope'), to: { name: 'objects', query: { state: 'in-step' } } },
    { n: o.suspended, text: t('suspended, kept for a return'), to: { name: 'objects', query: { state: 'suspended' } } },
    { n: o.cloudOnly, text: t('in the cloud only'), to: { name: 'objects', query: { state: 'cloud-only' } } },
    { n: health.value?.problems ?? 0, text: t('with a problem'), to: { name: 'problems' } },
  ]
})
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Overview</h1>
      <span class="push" />
      <RouterLink v-if="session.may('administrator')" :to="{ name: 'installation' }"
        >Look at the installation</RouterLink
      >
    </div>
    <Fault v-if="live.failure && !health" :failure="live.failure" @again="live.refresh" />
    <NSkeleton v-else-if="!health" text :repeat="6" />
    <template v-else>
      <section v-if="attention.length" class="sheet attention" aria-label="What needs attention">
        <div v-for="one in attention" :key="one.code + one.about.key" class="one">
          <strong>{{ t(one.title) }}</strong><span class="quiet"
            >{{ one.detail }}{{ one.since ? t(', since {0}', when(one.since)) : '' }}</span
          >
          <RouterLink v-if="placeOf(one)" class="push" :to="placeOf(one)!.to">{{ placeOf(one)!.text }}</RouterLink>
          <p>{{ t(one.cause) }} {{ t(one.remedy) }}</p>
        </div>
      </section>
      <section v-if="next" class="sheet begin" aria-label="First day">
        <strong>First day</strong>
        <span
          >{{ day.data.value!.steps.filter((s) => s.done && !s.later).length }} of
          {{ day.data.value!.steps.filter((s) => !s.later).length }} steps to the first run are done. Next:
          {{ next.text }}.</span
        >
        <RouterLink class="push" :to="{ name: 'first-day' }">Go on</RouterLink>
      </section>
      <section class="numbers" aria-label="Objects">
        <RouterLink v-for="number in numbers" :key="number.text" class="sheet number" :to="number.to">
          <span class="big">{{ number.n.toLocaleString(language) }}</span><span class="quiet">{{ number.text }}</span>
        </RouterLink>
      </section>
      <!-- Its place is kept from the first, so that nothing jumps. -->
      <Trend
        v-if="trend.data.value ? trend.data.value.some((d) => d.runs || d.opened) : health.lastRun"
        :days="trend.data.value ?? []"
        class="trend"
      />
      <div class="columns">
        <section class="sheet">
          <header>
            <h2>Runs</h2>
            <RouterLink :to="{ name: 'runs' }">All runs</RouterLink>
          </header>
          <div class="body">
            <div v-if="health.current" class="run now">
              <div class="row">
                <RouterLink :to="{ name: 'run', params: { id: health.current.id } }"
                  >Run {{ health.current.id }}</RouterLink
                ><Tag v-bind="runWord(health.current)" /><span class="quiet">{{ took(health.current.started) }}</span>
              </div>
              <RunCounts :counts="health.current.counts" />
            </div>
            <div v-for="run in health.beside" :key="run.id" class="row run">
              <RouterLink :to="{ name: 'run', params: { id: run.id } }">Run {{ run.id }}</RouterLink
              ><Tag v-bind="runWord(run)" /><span class="quiet">{{ runKind(run) }}, {{ took(run.started) }}</span>
            </div>
            <div v-if="health.lastRun" class="run">
              <div class="row">
                <RouterLink :to="{ name: 'run', params: { id: health.lastRun.id } }"
                  >Run {{ health.lastRun.id }}</RouterLink
                ><Tag v-bind="runWord(health.lastRun)" />
                <span class="quiet"
                  >{{ runKind(health.lastRun) }}, ended {{ when(health.lastRun.ended) }} after
                  {{ took(health.lastRun.started, health.lastRun.ended) }}, by {{ health.lastRun.by }}</span
                >
              </div>
              <RunCounts :counts="health.lastRun.counts" />
            </div>
            <p v-else class="quiet">
              No run has ended yet. “Sync now” starts the first one; a rehearsal shows beforehand what it would do.
            </p>
            <p class="quiet next">
              <template v-if="health.live">Changes in directories that are watched start runs at once. </template>
              {{
                health.nextRun
                  ? t('The schedule starts the next run {0}, at {1}.', until(health.nextRun), when(health.nextRun))
                  : health.live
                    ? t('The schedule is off.')
                    : t('The schedule is off: runs start by hand only.')
              }}
              <template v-if="health.nextFull"
                >Everything is compared {{ until(health.nextFull) }}, at {{ when(health.nextFull) }}.
              </template>
              <Going :going="health.going" />
              <RouterLink v-if="health.pins" :to="{ name: 'kept' }"
                >{{ count(health.pins, 'thing') }} put back and held against rules or scope.</RouterLink
              >
              {{ health.revision ? t('Settings revision {0}.', health.revision) : t('No settings are active.') }}
            </p>
          </div>
        </section>
        <section class="sheet">
          <header><h2>Connections</h2></header>
          <div class="body">
            <table class="list">
              <thead>
                <tr>
                  <th>What</th>
                  <th>State</th>
                  <th>Last read</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="directory in health.directories" :key="directory.name">
                  <td>
                    Directory <strong>{{ directory.name }}</strong><br /><span class="quiet mono">{{
                      directory.base
                    }}</span>
                  </td>
                  <td>
                    {{ count(directory.entries, 'user') }}<br /><span :class="directory.agents ? 'quiet' : 'bad'"
                      >{{ count(directory.agents, 'agent') }} online</span
                    >
                  </td>
                  <td>{{ when(directory.lastRead) }}</td>
                </tr>
                <tr>
                  <td>
                    Cloud<br /><span class="quiet mono">{{ health.cloud.url }}</span>
                  </td>
                  <td>
                    SCIM 2.0<template v-if="health.cloud.requestsPerMinute"
                      ><br /><span class="quiet"
                        >takes {{ health.cloud.requestsPerMinute.toLocaleString(language) }} requests a minute</span
                      ></template
                    >
                  </td>
                  <td>{{ when(health.cloud.lastRead) }}</td>
                </tr>
              </tbody>
            </table>
          </div>
        </section>
        <section class="sheet">
          <header><h2>Agents</h2></header>
          <div class="body">
            <p v-if="!health.agents.length" class="quiet">
              No agent is enrolled. An administrator issues a code with <span class="mono">kambrel agent code</span>.
            </p>
            <table v-else class="list">
              <thead>
                <tr>
                  <th>Name</th>
                  <th>State</th>
                  <th>Serves</th>
                  <th>Last contact</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="agent in health.agents" :key="agent.id">
                  <td>
                    <strong>{{ agent.name }}</strong><br /><span class="quiet"
                      >{{ agent.host }}, {{ agent.version || t('no version yet') }}</span
                    >
                  </td>
                  <td><Tag :text="agent.state" :tone="agentTone[agent.state] ?? 'default'" /></td>
                  <td>{{ agent.directories.join(', ') || t('nothing') }}</td>
                  <td>{{ when(agent.lastContact) }}</td>
                </tr>
              </tbody>
            </table>
          </div>
        </section>
      </div>
    </template>
  </div>
</template>

<style scoped>
.attention {
  border-left: 4px solid var(--warn);
  padding: 4px 14px;
  margin-bottom: 14px;
}
.one {
  padding: 8px 0;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 10px;
}
.one + .one {
  border-top: 1px solid var(--line);
}
.one p {
  flex-basis: 100%;
  margin: 2px 0 0;
}
.begin {
  border-left: 4px solid var(--brass);
  padding: 10px 14px;
  margin-bottom: 14px;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 10px;
}
.numbers {
  display: grid;
  grid-template-columns: repeat(5, 1fr);
  gap: 12px;
  margin-bottom: 14px;
}
.number {
  padding: 10px 14px;
  display: flex;
  flex-direction: column;
  color: var(--ink);
}
.number:hover {
  text-decoration: none;
  border-color: var(--accent);
}
.big {
  font-size: 24px;
  font-weight: 600;
}
.trend {
  margin: 0 0 14px;
}
.columns {
  grid-template-columns: repeat(auto-fit, minmax(430px, 1fr));
}
.run + .run {
  margin-top: 10px;
  padding-top: 10px;
  border-top: 1px solid var(--line);
}
.next {
  margin: 12px 0 0;
}
.list {
  width: 100%;
  border-collapse: collapse;
}
.list th {
  text-align: left;
  font-weight: 500;
  color: var(--ink-3);
  padding: 0 10px 4px 0;
  font-size: 12.5px;
}
.list td {
  padding: 6px 10px 6px 0;
  border-top: 1px solid var(--line);
  vertical-align: top;
  overflow-wrap: anywhere;
}
</style>
