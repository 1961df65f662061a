<script setup lang="ts">
// Values of the directory that would have to be others: edited here, written through the
// agents, and looked at again by a run.
import { NButton, NInput, NModal } from 'naive-ui'
import { computed, ref, shallowRef } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Dn from '../parts/Dn.vue'
import { useAct } from '../parts/use-act'
import { count } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

type Item = Schemas['RepairItem']

const props = defineProps<{ of: { id: number } | { code: string }; text: string; offered?: Item[] }>()
const emit = defineEmits<{ done: [] }>()
const session = useSession()
const { busy, act } = useAct()
const items = ref<Item[] | null>(null)
const repair = shallowRef<Schemas['Repair'] | null>(null)
const run = ref(0)
const changed = computed(() => (items.value ?? []).filter((i) => i.after !== i.before))

async function ask(): Promise<void> {
  const query = props.of
  const offers = props.offered ?? (await act(() => unwrap(api.GET('/api/v1/problems/repairs', { params: { query } }))))
  if (!offers) return
  repair.value = null
  items.value = offers.map((i) => ({ ...i }))
}
async function write(): Promise<void> {
  const body = { items: changed.value }
  const begun = await act(() => unwrap(api.POST('/api/v1/repairs', { body })))
  if (!begun) return
  repair.value = begun
  await look(begun.id)
}
async function look(id: number): Promise<void> {
  if (run.value === id) return
  const now = await act(() => unwrap(api.GET('/api/v1/repairs/{id}', { params: { path: { id } } })))
  if (!now || run.value === id) return
  repair.value = now
  if (now.state === 'running') return
  run.value = id
  if (now.done) await act(() => unwrap(api.POST('/api/v1/runs', { body: { purpose: 'sync' } })))
  if (!now.failed) items.value = null
  emit('done')
}
useLive().listen(
  (event) => event.kind === 'repair' && event.id === repair.value?.id && event.id !== undefined && void look(event.id),
)
const answerOf = (item: Item): Item | undefined =>
  repair.value?.items?.find(
    (i) => i.entryId === item.entryId && i.attribute === item.attribute && i.before === item.before,
  )
</script>

<template>
  <template v-if="session.may('administrator')">
    <NButton size="small" :loading="busy" @click="ask">{{ text }}…</NButton>
    <NModal
      :show="Boolean(items)"
      preset="card"
      title="Correct values in the directory"
      style="width: 860px"
      @update:show="(on: boolean) => !on && (items = null)"
    >
      <p v-if="!items?.length">
        There is no value that Kambrel could write and that would help: the rule reads nothing that is repaired, or the
        entry is gone.
      </p>
      <template v-else>
        <div class="list">
          <div v-for="item in items" :key="item.entryId + item.attribute + item.before" class="one">
            <Dn :dn="item.dn ?? ''" />
            <span class="mono">{{ item.attribute }}</span>
            <span class="mono was">{{ item.before || t('nothing') }}</span>
            <NInput
              v-model:value="item.after"
              size="small"
              :input-props="{ 'aria-label': t('New {0} of {1}', item.attribute, item.name ?? item.dn) }"
            />
            <span v-if="answerOf(item)?.state === 'failed'" class="bad answer" role="alert">{{
              answerOf(item)?.answer
            }}</span>
          </div>
        </div>
        <p class="quiet">
          Each is written only while the old value is still there, and can be undone on the survey's page. A run looks
          at once whether the problem is solved.
        </p>
        <div class="row">
          <NButton
            size="small"
            type="primary"
            :loading="busy || repair?.state === 'running'"
            :disabled="!changed.length"
            @click="write"
            >Write {{ count(changed.length, 'value') }}</NButton
          ><NButton size="small" @click="items = null">Leave it</NButton>
        </div>
      </template>
    </NModal>
  </template>
</template>

<style scoped>
.list {
  max-height: 50vh;
  overflow: auto;
}
.one {
  display: grid;
  grid-template-columns: 1.3fr 130px 1.2fr 1.2fr;
  gap: 10px;
  align-items: center;
  padding: 5px 0;
  border-top: 1px solid var(--line);
}
.was {
  overflow-wrap: anywhere;
}
.answer {
  grid-column: 1 / -1;
}
</style>
