<script setup lang="ts">
// The whole way of one entry, alone: what would be written, or written at once.
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { ref, shallowRef } from 'vue'

import { api, unwrap, type Change, type Reason, type Run } from '../api/client'
import Diffs from '../parts/Diffs.vue'
import Reasons from '../parts/Reasons.vue'
import Tag from '../parts/Tag.vue'
import { changeWord, rehearses, runWord } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const props = defineProps<{ entry: string }>()
const session = useSession()
const message = useMessage()
const run = shallowRef<Run | null>(null)
const steps = shallowRef<Reason[]>([])
const changes = shallowRef<Change[]>([])
const busy = ref(false)

useLive().listen(
  (event) => event.kind === 'run' && event.id !== undefined && event.id === run.value?.id && void follow(event.id),
)
async function follow(id: number): Promise<void> {
  run.value = await unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id } } }))
  if (!run.value.ended) return
  changes.value = (await unwrap(api.GET('/api/v1/runs/{id}/changes', { params: { path: { id } } }))).items
  busy.value = false
}
async function start(write: boolean): Promise<void> {
  busy.value = true
  changes.value = []
  try {
    const trial = await unwrap(api.POST('/api/v1/trials', { body: { text: props.entry, write } }))
    steps.value = trial.steps.slice(0, 1)
    await follow(trial.runId)
  } catch (e) {
    busy.value = false
    message.error((e as Error).message, { duration: 9000, closable: true })
  }
}
</script>

<template>
  <section v-if="session.may('operator')" class="sheet">
    <header>
      <h2>Trial</h2>
      <span class="quiet">asks the directory now, and goes the whole way for this entry alone</span>
      <span class="push" />
      <NButton size="small" :loading="busy" @click="start(false)">Try without writing</NButton>
      <NPopconfirm @positive-click="start(true)"
        ><template #trigger><NButton size="small" :disabled="busy">Write for it alone…</NButton></template
        >Write to the cloud what is planned for this entry? Nobody else is touched.</NPopconfirm
      >
    </header>
    <div v-if="run" class="body" role="status">
      <Reasons :nodes="steps" />
      <p>
        <Tag v-bind="runWord(run)" />
        <RouterLink :to="{ name: 'run', params: { id: run.id } }">run {{ run.id }}</RouterLink
        ><span v-if="run.ended && !changes.length"> : nothing to do, it is in step.</span>
      </p>
      <div v-for="change in changes" :key="change.id">
        <p>
          <strong>{{ change.operation === 'none' ? t('nothing') : change.operation }}</strong>
          <Tag v-bind="changeWord(change, rehearses(run))" />
          <span :class="{ bad: change.code }">{{ change.answer }}</span>
        </p>
        <Diffs v-if="change.diffs.length" :diffs="change.diffs" />
      </div>
    </div>
  </section>
</template>

<style scoped>
p {
  margin: 6px 0;
}
</style>
