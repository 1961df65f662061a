<script setup lang="ts">
// The version of an agent, and what becomes of the one that it is to go on by.
import { NButton, NPopconfirm, useMessage } from 'naive-ui'

import { api, unwrap, type Schemas } from '../api/client'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { when, type Tone } from '../parts/words'
import { t } from '../state/language'
import { useSession } from '../state/session'

const props = defineProps<{ agent: Schemas['Agent'] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const message = useMessage()

const words: Record<string, string> = {
  waits: t('waits for its turn'),
  offered: t('is going on by it'),
  failed: 'failed',
}
const tones: Record<string, Tone> = { waits: 'default', offered: 'info', failed: 'error' }

const { act } = useAct()
const done = (work: () => Promise<unknown>, said: string) =>
  act(async () => {
    await work()
    message.success(said)
    emit('changed')
  })
const update = (version: string) =>
  done(
    () =>
      unwrap(
        api.POST('/api/v1/agent-releases/{version}/updates', {
          params: { path: { version } },
          body: { agents: [props.agent.id] },
        }),
      ),
    t('{0} goes on by {1} when it has its turn.', props.agent.name, version),
  )
const keep = () =>
  done(
    () => unwrap(api.DELETE('/api/v1/agents/{id}/update', { params: { path: { id: props.agent.id } } })),
    t('{0} stays at {1}.', props.agent.name, props.agent.version),
  )
</script>

<template>
  <span class="version">{{ agent.version || '-' }}</span>
  <template v-if="agent.update">
    <Tag
      class="beside"
      :text="`${agent.update.to}: ${words[agent.update.state]}`"
      :tone="tones[agent.update.state] ?? 'default'"
      :title="t('Wanted by {0}', agent.update.by)"
    />
    <p v-if="agent.update.state === 'failed'" class="quiet why">
      It went back at {{ when(agent.update.since) }}: {{ agent.update.detail }}. No other agent gets
      {{ agent.update.to }}
      until this is tried again or left.
    </p>
    <div v-if="session.may('administrator') && agent.update.state !== 'offered'" class="acts">
      <NButton v-if="agent.update.state === 'failed'" size="tiny" @click="update(agent.update.to)">Try again</NButton>
      <NButton size="tiny" quaternary @click="keep">Stay at {{ agent.version }}</NButton>
    </div>
  </template>
  <div v-else-if="agent.takes && session.may('administrator')" class="acts">
    <NPopconfirm @positive-click="update(agent.takes)">
      <template #trigger
        ><NButton size="tiny">Update to {{ agent.takes }}…</NButton></template
      >
      {{ agent.name }} ends what it has begun and goes on by {{ agent.takes }}. If that does not report within a minute,
      {{ agent.version }} goes on.
    </NPopconfirm>
  </div>
</template>

<style scoped>
.version {
  white-space: nowrap;
}
.beside {
  margin-left: 6px;
}
.why {
  max-width: 320px;
  margin: 4px 0 0;
  overflow-wrap: anywhere;
}
.acts {
  display: flex;
  gap: 4px;
  margin-top: 4px;
}
</style>
