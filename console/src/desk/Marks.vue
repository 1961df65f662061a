<script setup lang="ts">
// What people say of problems: who looks after them, a note, until when they sleep.
import { NButton, NDatePicker, NInput, NModal } from 'naive-ui'
import { ref } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { useAct } from '../parts/use-act'
import { t } from '../state/language'
import { useSession } from '../state/session'

const props = defineProps<{ of: { ids: number[] } | { code: string }; what: string; now?: Schemas['Problem'] }>()
const emit = defineEmits<{ done: [] }>()
const session = useSession()
const { busy, act } = useAct()
const open = ref(false)
const assigned = ref('')
const note = ref('')
const asleep = ref<number | null>(null)
const week = 7 * 86_400_000

function ask(): void {
  assigned.value = props.now?.assigned ?? ''
  note.value = props.now?.note ?? ''
  asleep.value = props.now?.asleep && Date.parse(props.now.asleep) > Date.now() ? Date.parse(props.now.asleep) : null
  open.value = true
}
async function mark(body: Omit<Schemas['MarkProblems'], 'ids' | 'code'>): Promise<void> {
  const done = await act(() => unwrap(api.POST('/api/v1/problems/marks', { body: { ...props.of, ...body } })))
  if (!done) return
  open.value = false
  emit('done')
}
async function save(): Promise<void> {
  const until = asleep.value === null ? undefined : new Date(asleep.value).toISOString()
  const woken = props.now?.asleep && !until ? new Date().toISOString() : undefined
  // Of many, only what was written is changed.
  await mark({
    assigned: props.now || assigned.value ? assigned.value : undefined,
    note: props.now || note.value ? note.value : undefined,
    asleep: until ?? woken,
  })
}
</script>

<template>
  <template v-if="session.may('operator')">
    <NButton
      size="small"
      :loading="busy"
      :disabled="now?.assigned === session.who?.name"
      @click="mark({ assigned: session.who?.name ?? '' })"
      >I look after {{ what }}</NButton
    ><NButton size="small" :loading="busy" @click="ask">Assign, note or sleep…</NButton>
    <NModal v-model:show="open" preset="card" :title="t('Of {0}', what)" style="width: 520px">
      <label class="field"
        ><span>Who looks after {{ what }}</span
        ><NInput
          v-model:value="assigned"
          size="small"
          placeholder="nobody"
          :input-props="{ 'aria-label': t('Who looks after it') }"
      /></label>
      <label class="field"
        ><span>Note</span
        ><NInput
          v-model:value="note"
          type="textarea"
          size="small"
          :autosize="{ minRows: 2, maxRows: 6 }"
          :input-props="{ 'aria-label': t('Note') }"
      /></label>
      <div class="field">
        <span>Sleeps until</span>
        <span class="row"
          ><NDatePicker
            v-model:value="asleep"
            type="date"
            size="small"
            clearable
            :is-date-disabled="(at: number) => at < Date.now() || at > Date.now() + 52 * week"
            :input-readonly="false"
          /><NButton size="small" @click="asleep = Date.now() + week">A week</NButton
          ><NButton size="small" @click="asleep = Date.now() + 4 * week">Four weeks</NButton></span
        >
      </div>
      <p class="quiet">
        What sleeps is listed last and does not ask for attention. It wakes on that day, or when its cause becomes
        another.
      </p>
      <div class="row">
        <NButton size="small" type="primary" :loading="busy" @click="save">Keep</NButton
        ><NButton size="small" @click="open = false">Leave it</NButton>
      </div>
    </NModal>
  </template>
</template>
