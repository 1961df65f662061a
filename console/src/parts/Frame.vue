<script setup lang="ts">
// The frame around every page: where one can go, what state things are in,
// and the one act that is always at hand.
import { NButton, useMessage } from 'naive-ui'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap } from '../api/client'
import { useLive } from '../state/live'
import { useSession } from '../state/session'
import { dark, toggle } from '../state/theme'
import Account from './Account.vue'
import Finder from './Finder.vue'
import Paused from './Paused.vue'
import Pausing from './Pausing.vue'
import { useNames } from './unnamed'
import { until } from './words'

const session = useSession()
const live = useLive()
const router = useRouter()
const message = useMessage()
const starting = ref(false)
const main = ref<HTMLElement | null>(null)
useNames(main)

const places = [
  { name: 'overview', label: 'Overview', path: 'M3 11 12 4l9 7v9H3z' },
  { name: 'problems', label: 'Problems', path: 'M12 4 21 19H3zM12 10v4M12 16.5v.5' },
  { name: 'runs', label: 'Runs', path: 'M4 6h16M4 12h16M4 18h10' },
  {
    name: 'objects',
    label: 'Objects',
    path: 'M9 11a3.5 3.5 0 1 0-.01 0zM3 20c0-4 3-6 6-6s6 2 6 6M17 7h4M17 11h4M18 15h3',
  },
  { name: 'directories', label: 'Directories', path: 'M6 3h12v18H6zM9 8h6M9 12h6M9 16h3', first: true },
  { name: 'scope', label: 'Scope', path: 'M5 5h4v4H5zM15 10h4v4h-4zM15 17h4v4h-4zM7 9v10h8M7 12h8' },
  { name: 'rules', label: 'Rules', path: 'M4 6h7M4 12h5M4 18h7M14 9l5 3-5 3M20 4v16' },
  { name: 'forecast', label: 'Forecast', path: 'M3 17l5-5 4 3 8-9M15 6h5v5M3 21h18' },
  {
    name: 'survey',
    label: 'Survey',
    path: 'M10.5 4a6.5 6.5 0 1 0 0 13 6.5 6.5 0 0 0 0-13zM15.5 15.5 21 21M8 10.5l2 2 3.5-4',
  },
  { name: 'passwords', label: 'Passwords', path: 'M8 11V8a4 4 0 0 1 8 0v3M5 11h14v9H5zM12 14.5v2' },
  {
    name: 'cloud-groups',
    label: 'Cloud groups',
    path:
      'M12 3v8M8.5 7.5 12 11l3.5-3.5M7 15a2 2 0 1 0-.01 0zM17 15a2 2 0 1 0-.01 0z' +
      'M3.5 21c0-2.6 1.6-4 3.5-4s3.5 1.4 3.5 4M13.5 21c0-2.6 1.6-4 3.5-4s3.5 1.4 3.5 4',
  },
  { name: 'settings', label: 'Settings', path: 'M4 7h9M17 7h3M4 17h3M11 17h9M15 4.5v5M9 14.5v5' },
  { name: 'audit', label: 'Audit', path: 'M6 3h9l4 4v14H6zM15 3v4h4M9.5 12.5l2 2 3.5-4', operator: true },
  {
    name: 'operators',
    label: 'Operators',
    path: 'M8 4a3 3 0 1 0 .01 0zM3 20c0-4 2.2-6 5-6s5 2 5 6M17 9.5a2.5 2.5 0 1 0-.01 0zM17 9.5V20M17 16h3M17 13h2',
    administrator: true,
  },
  { name: 'cloud', label: 'Cloud', path: 'M7 18a4.5 4.5 0 0 1-.4-9A6 6 0 0 1 18 10.5a3.8 3.8 0 0 1-.5 7.5z' },
]

onMounted(live.start)
onUnmounted(live.stop)
const stopped = computed(() => Boolean(live.health?.pauses.some((p) => p.of === 'everything')))
const state = computed(() => {
  if (live.failure) return { mark: 'broken', text: live.failure.title, more: live.failure.detail }
  const h = live.health
  if (!h) return { mark: 'unknown', text: 'Looking…', more: '' }
  const now = h.current
    ? `run ${h.current.id} ${h.current.stage ? h.current.stage + 's' : 'waits'}`
    : stopped.value
      ? 'no run begins'
      : h.nextRun
        ? `${h.live ? 'live, ' : ''}next run ${until(h.nextRun)}`
        : h.live
          ? 'live'
          : 'schedule off'
  return { mark: h.state, text: h.summary, more: now }
})

async function sync(): Promise<void> {
  starting.value = true
  try {
    const run = await unwrap(api.POST('/api/v1/runs', { body: { purpose: 'sync' } }))
    await router.push({ name: 'run', params: { id: run.id } })
  } catch (e) {
    message.error((e as Error).message)
  } finally {
    starting.value = false
  }
}

const account = ref(false)
async function leave(): Promise<void> {
  await session.signOut()
}
</script>

<template>
  <div class="frame">
    <a class="visually-hidden" href="#main">Skip to the page</a>
    <nav class="rail" aria-label="Main">
      <RouterLink class="brand" :to="{ name: 'overview' }"
        ><img src="/icon.svg" alt="" width="26" height="26" />Kambrel</RouterLink
      >
      <RouterLink
        v-for="place in places.filter((p) =>
          p.administrator ? session.may('administrator') : !p.operator || session.may('operator'),
        )"
        :key="place.name"
        class="place"
        :class="{ here: ($route.meta.place ?? $route.name) === place.name, first: place.first }"
        :aria-current="$route.name === place.name ? 'page' : undefined"
        :to="{ name: place.name }"
      >
        <svg viewBox="0 0 24 24" width="17" height="17" aria-hidden="true">
          <path
            :d="place.path"
            fill="none"
            stroke="currentColor"
            stroke-width="1.8"
            stroke-linejoin="round"
            stroke-linecap="round"
          />
        </svg>
        {{ place.label }}
      </RouterLink>
      <div class="foot">
        <button type="button" class="plain" @click="toggle">{{ dark ? 'Light' : 'Dark' }} look</button>
        <span
          >{{ session.who?.name }}<br /><small>{{ session.who?.role }}</small></span
        >
        <button type="button" class="plain" @click="account = true">Your account</button>
        <button type="button" class="plain" @click="leave">Sign out</button>
      </div>
    </nav>
    <Account v-if="account" @close="account = false" />
    <div class="side">
      <header class="bar">
        <div class="state" :data-mark="state.mark" role="status">
          <span class="dot" aria-hidden="true" />
          <strong>{{ state.text }}</strong>
          <span class="quiet">{{ state.more }}</span>
        </div>
        <Finder />
        <span v-if="session.may('operator')" class="row acts">
          <Pausing />
          <NButton
            type="primary"
            size="small"
            :loading="starting"
            :disabled="stopped"
            :title="stopped ? 'Everything is paused' : undefined"
            @click="sync"
            >Sync now</NButton
          >
        </span>
      </header>
      <Paused />
      <main id="main" ref="main" tabindex="-1"><slot /></main>
    </div>
  </div>
</template>

<style scoped>
.frame {
  display: grid;
  grid-template-columns: 176px 1fr;
  height: 100%;
}
.rail {
  background: var(--rail);
  color: var(--rail-ink);
  display: flex;
  flex-direction: column;
  padding: 14px 10px;
  gap: 2px;
}
.rail a,
.rail .plain {
  color: inherit;
  text-decoration: none;
}
.brand {
  display: flex;
  align-items: center;
  gap: 9px;
  font-weight: 650;
  font-size: 16px;
  padding: 0 6px 14px;
  letter-spacing: 0.01em;
}
.place {
  display: flex;
  align-items: center;
  gap: 10px;
  padding: 7px 9px;
  border-radius: 5px;
  border-left: 3px solid transparent;
}
.place.first {
  margin-top: 14px;
}
.place:hover {
  background: var(--rail-hover);
}
.place.here {
  background: var(--rail-lit);
  border-left-color: var(--brass);
  color: var(--rail-here);
}
.foot {
  margin-top: auto;
  display: flex;
  flex-direction: column;
  gap: 8px;
  padding: 6px 9px;
  font-size: 12.5px;
}
.foot small {
  opacity: 0.7;
}
.plain {
  background: none;
  border: 0;
  padding: 0;
  font: inherit;
  text-align: left;
  cursor: pointer;
}
.plain:hover {
  text-decoration: underline;
}
.side {
  display: flex;
  flex-direction: column;
  min-width: 0;
  height: 100%;
  overflow: hidden;
}
.bar {
  display: flex;
  align-items: center;
  justify-content: space-between;
  gap: 14px;
  padding: 8px 20px;
  border-bottom: 1px solid var(--line);
  background: var(--sheet);
}
.acts {
  flex: none;
}
.state {
  display: flex;
  align-items: baseline;
  gap: 9px;
  min-width: 0;
}
.dot {
  width: 10px;
  height: 10px;
  border-radius: 50%;
  background: var(--ink-3);
  align-self: center;
  flex: none;
}
[data-mark='well'] .dot {
  background: var(--good);
}
[data-mark='attention'] .dot {
  background: var(--warn);
  border-radius: 2px;
}
[data-mark='broken'] .dot {
  background: var(--bad);
  border-radius: 0;
  transform: rotate(45deg);
}
main {
  position: relative; /* what is placed within it scrolls with it */
  overflow: auto;
  padding: 18px 20px 40px;
  flex: 1;
  outline: none;
}
</style>
