<script setup lang="ts">
// A filter as conditions and as text, side by side, either editable. A filter
// that the conditions cannot show stays as text and keeps working.
import { NButton, NInput } from 'naive-ui'
import { ref, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { t } from '../state/language'
import FilterBuilder from './FilterBuilder.vue'
import { toGroup, toText, type Group } from './filters'

const text = defineModel<string>({ required: true })
defineProps<{ kind: string; disabled?: boolean }>()

const group = ref<Group | null>(null)
const onlyText = ref(false)
const fault = ref<Schemas['Fault'] | null>(null)
let written = '' // what the conditions have written last
let timer = 0

async function check(): Promise<void> {
  const asked = text.value
  if (asked.trim() === '') {
    fault.value = null
    onlyText.value = false
    group.value = { kind: 'group', not: false, all: true, parts: [] }
    return
  }
  try {
    const answer = await unwrap(api.POST('/api/v1/filters/check', { body: { text: asked } }))
    if (asked !== text.value) return
    fault.value = answer.fault ?? null
    if (!answer.tree) return
    group.value = toGroup(answer.tree)
    onlyText.value = group.value === null
  } catch {
    // told by the bar; the text stays as it is
  }
}

watch(
  text,
  (now) => {
    if (now === written && group.value) return
    window.clearTimeout(timer)
    timer = window.setTimeout(() => void check(), fault.value || group.value || onlyText.value ? 250 : 0)
  },
  { immediate: true },
)

function fromBuilder(): void {
  if (!group.value) return
  written = toText(group.value)
  fault.value = null
  text.value = written
}

/** The text up to the fault, so that a mark can stand under it. */
const before = (column: number) => text.value.slice(0, Math.max(0, column - 1))
</script>

<template>
  <div class="sides">
    <div>
      <p v-if="onlyText" class="quiet">
        This filter holds something that conditions cannot show, such as a matching rule or several stars. It is kept as
        text and works as it is.
      </p>
      <FilterBuilder v-else-if="group" :group="group" :disabled="disabled" @change="fromBuilder" />
    </div>
    <div>
      <NInput
        v-model:value="text"
        type="textarea"
        :autosize="{ minRows: 2, maxRows: 8 }"
        class="mono"
        :disabled="disabled"
        :status="fault ? 'error' : undefined"
        placeholder="No filter: everybody in the containers"
        :input-props="{ 'aria-label': t('Filter for {0} as text (RFC 4515)', kind), spellcheck: false }"
      />
      <div v-if="fault" class="bad fault" role="alert">
        <span class="mono"
          >{{ before(fault.column ?? 1)
          }}<mark>{{ text.slice((fault.column ?? 1) - 1, fault.column ?? 1) || ' ' }}</mark></span
        >
        character {{ fault.column }}: {{ fault.message }}
      </div>
      <NButton v-if="text && !disabled" size="tiny" quaternary @click="text = ''">No filter</NButton>
    </div>
  </div>
</template>

<style scoped>
.sides {
  display: grid;
  grid-template-columns: minmax(0, 7fr) minmax(0, 4fr);
  gap: 16px;
}
.fault {
  margin-top: 4px;
  overflow-wrap: anywhere;
}
mark {
  background: var(--bad);
  color: var(--sheet);
}
p {
  margin: 0;
}
</style>
