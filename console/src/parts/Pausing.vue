<script setup lang="ts">
// Stopping all of the work, or a part of it, with why and until when.
import { NButton, NDatePicker, NInput, NModal, NRadio, NRadioGroup, NSelect } from 'naive-ui'
import { computed, ref } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useAct } from './use-act'

const live = useLive()
const { busy, act } = useAct()
const open = ref(false)
const of = ref<Schemas['NewPause']['of']>('everything')
const directory = ref<string | null>(null)
const reason = ref('')
const until = ref<number | null>(null)
const hour = 3_600_000

const parts = [
  { value: 'everything', text: t('Everything'), more: t('No run begins, and nothing is written anywhere.') },
  {
    value: 'cloud',
    text: t('The cloud'),
    more: t('Nothing is written to it. Directories are read and written as before.'),
  },
  {
    value: 'directories',
    text: t('Directories'),
    more: t('Nothing is written to them: no groups, passwords or repairs.'),
  },
  { value: 'directory', text: t('One directory'), more: t('It is neither read nor written; the others go on.') },
] as const
const directories = computed(() => (live.health?.directories ?? []).map((d) => ({ label: d.name, value: d.name })))
const goes = computed(() => live.health?.current?.state === 'running')
const ready = computed(() => reason.value.trim() && (of.value !== 'directory' || directory.value))

function ask(): void {
  of.value = 'everything'
  directory.value = directories.value.length === 1 ? (directories.value[0]?.value ?? null) : null
  reason.value = ''
  until.value = null
  open.value = true
}
defineExpose({ ask })
async function pause(): Promise<void> {
  const body: Schemas['NewPause'] = { of: of.value, reason: reason.value.trim() }
  if (of.value === 'directory') body.directory = directory.value ?? ''
  if (until.value !== null) body.until = new Date(until.value).toISOString()
  if (!(await act(() => unwrap(api.POST('/api/v1/pauses', { body }))))) return
  open.value = false
  await live.refresh()
}
</script>

<template>
  <NButton size="small" @click="ask">Pause…</NButton>
  <NModal v-model:show="open" preset="card" title="Pause" style="width: 560px">
    <NRadioGroup v-model:value="of" name="pause">
      <NRadio v-for="part in parts" :key="part.value" :value="part.value" class="part">
        <strong>{{ part.text }}</strong> <span class="quiet">{{ part.more }}</span>
      </NRadio>
    </NRadioGroup>
    <label v-if="of === 'directory'" class="field"
      ><span>Directory</span
      ><NSelect v-model:value="directory" size="small" :options="directories" aria-label="Directory"
    /></label>
    <label class="field"
      ><span>Why</span
      ><NInput
        v-model:value="reason"
        size="small"
        placeholder="for those who find it paused"
        :input-props="{ 'aria-label': t('Why') }"
    /></label>
    <div class="field">
      <span>Until</span>
      <span class="row"
        ><NDatePicker
          v-model:value="until"
          type="datetime"
          size="small"
          clearable
          placeholder="somebody resumes it"
          :is-date-disabled="(at: number) => at < Date.now() - 24 * hour || at > Date.now() + 365 * 24 * hour"
        /><NButton size="small" @click="until = Date.now() + hour">An hour</NButton
        ><NButton size="small" @click="until = Date.now() + 8 * hour">8 hours</NButton></span
      >
    </div>
    <p class="quiet">
      {{
        goes && of === 'everything'
          ? t(
              'Run {0} ends where it is: what it has written stays, the rest is planned anew later. ',
              live.health?.current?.id,
            )
          : ''
      }}Nothing is lost: what changes meanwhile is taken up when it goes on. Rehearsals and searches work as before.
    </p>
    <div class="row">
      <NButton size="small" type="primary" :disabled="!ready" :loading="busy" @click="pause">Pause it</NButton
      ><NButton size="small" @click="open = false">Leave it</NButton>
    </div>
  </NModal>
</template>

<style scoped>
.part {
  display: flex;
  margin-bottom: 6px;
}
</style>
