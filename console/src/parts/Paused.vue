<script setup lang="ts">
// What operators have stopped, on every page.
import { NButton } from 'naive-ui'

import { api, unwrap, type Schemas } from '../api/client'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'
import { useAct } from './use-act'
import { when } from './words'

const live = useLive()
const session = useSession()
const { busy, act } = useAct()

async function resume(pause: Schemas['Pause']): Promise<void> {
  const params = { path: { of: pause.of }, query: { directory: pause.directory } }
  await act(() => unwrap(api.DELETE('/api/v1/pauses/{of}', { params })))
  await live.refresh()
}
</script>

<template>
  <section v-if="live.health?.pauses?.length" class="paused" aria-label="Paused" role="status">
    <div v-for="pause in live.health.pauses" :key="pause.of + (pause.directory ?? '')" class="row">
      <strong>{{ pause.what.charAt(0).toUpperCase() + pause.what.slice(1) }}</strong>
      <span class="why">{{ pause.reason }}</span>
      <span class="quiet"
        >{{ pause.by }}, since {{ when(pause.since) }}{{ pause.until ? t(', until {0}', when(pause.until)) : '' }}</span
      >
      <NButton
        v-if="session.may('operator')"
        class="push"
        size="tiny"
        :loading="busy"
        :aria-label="t('Resume: {0}', pause.what)"
        @click="resume(pause)"
        >Resume</NButton
      >
    </div>
  </section>
</template>

<style scoped>
.paused {
  padding: 6px 20px;
  border-bottom: 1px solid var(--line);
  background: color-mix(in srgb, var(--warn) 14%, var(--sheet));
  display: grid;
  gap: 4px;
}
.why {
  overflow-wrap: anywhere;
}
</style>
