<script setup lang="ts">
// The frame around every page: where one can go, what state things are in,
// and the one act that is always at hand.
import { NButton, useMessage } from 'naive-ui'
import { computed, defineAsyncComponent, onMounted, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap } from '../api/client'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'
import { dark, toggle } from '../state/theme'
import Finder from './Finder.vue'
import { type Act } from './finds'
import Keys from './Keys.vue'
import { pages } from './pages'
import Paused from './Paused.vue'
import Pausing from './Pausing.vue'
import { typesInto } from './typing'
import { useNames } from './unnamed'
import { healthText, until } from './words'

const session = useSession()
const live = useLive()
const router = useRouter()
const message = useMessage()
const starting = ref(false)
useNames()

const open = computed(() => pages.filter((page) => !page.role || session.may(page.role)))
const rail = computed(() => open.value.filter((page) => page.path))

onMounted(live.start)
onUnmounted(live.stop)
const stopped = computed(() => Boolean(live.health?.pauses.some((p) => p.of === 'everything')))
const state = computed(() => {
  if (live.failure) return { mark: 'broken', text: t(live.failure.title), more: live.failure.detail }
  const h = live.health
  if (!h) return { mark: 'unknown', text: t('Looking…'), more: '' }
  const now = h.current
    ? t('run {0} {1}', h.current.id, h.current.stage ? h.current.stage + 's' : 'waits')
    : stopped.value
      ? t('no run begins')
      : h.nextRun
        ? t('{0}next run {1}', h.live ? t('live, ') : '', until(h.nextRun))
        : h.live
          ? 'live'
          : t('schedule off')
  return { mark: h.state, text: healthText(h), more: now }
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

// Its form is of no use to whoever does not open it.
const Account = defineAsyncComponent(() => import('./Account.vue'))
const account = ref(false)
const keys = ref(false)
const pausing = ref<InstanceType<typeof Pausing> | null>(null)
// What can be done on every page, by the field that finds everything.
const acts = computed<Act[]>(() => [
  ...(session.may('operator')
    ? [
        { name: t('Sync now'), words: t('start run'), act: sync, off: stopped.value },
        { name: t('Pause…'), words: t('stop'), act: () => pausing.value?.ask() },
      ]
    : []),
  { name: dark.value ? t('Light look') : t('Dark look'), words: t('theme colours'), act: toggle },
  { name: t('Your account'), words: t('password second factor'), act: () => (account.value = true) },
  { name: t('Keys'), words: t('keyboard shortcuts help'), act: () => (keys.value = true) },
  { name: t('Sign out'), words: t('leave'), act: leave },
])
function help(event: KeyboardEvent): void {
  if (event.key !== '?' || typesInto(event)) return
  event.preventDefault()
  keys.value = true
}
onMounted(() => document.addEventListener('keydown', help))
onUnmounted(() => document.removeEventListener('keydown', help))
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
        v-for="place in rail"
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
        <button type="button" class="plain" @click="toggle">{{ dark ? t('Light') : t('Dark') }} look</button>
        <span
          >{{ session.who?.name }}<br /><small>{{ session.who?.role }}</small></span
        >
        <button type="button" class="plain" @click="account = true">Your account</button>
        <button type="button" class="plain" @click="leave">Sign out</button>
      </div>
    </nav>
    <Keys v-model:open="keys" />
    <Account v-if="account" @close="account = false" />
    <div class="side">
      <header class="bar">
        <div class="state" :data-mark="state.mark" role="status">
          <span class="dot" aria-hidden="true" />
          <strong>{{ state.text }}</strong>
          <span class="quiet">{{ state.more }}</span>
        </div>
        <Finder :pages="open" :acts="acts" />
        <span v-if="session.may('operator')" class="row acts">
          <Pausing ref="pausing" />
          <NButton
            type="primary"
            size="small"
            :loading="starting"
            :disabled="stopped"
            :title="stopped ? t('Everything is paused') : undefined"
            @click="sync"
            >Sync now</NButton
          >
        </span>
      </header>
      <Paused />
      <main id="main" tabindex="-1"><slot /></main>
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
