<script setup lang="ts">
// What is expected of one entry, and a way to expect that it stays as it is.
import { NButton, NCheckbox, NInput, NModal, useMessage } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'

import { api, unwrap, type ObjectView } from '../api/client'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { shortTarget, show } from '../parts/words'
import { useDraft } from '../state/draft'
import { useExpectations } from '../state/expectations'
import { t } from '../state/language'
import { useSession } from '../state/session'
import Unmet from './Unmet.vue'

const props = defineProps<{ entry: string; name: string; attributes: ObjectView['attributes'] }>()
const draft = useDraft()
const held = useExpectations()
const session = useSession()
const message = useMessage()
const { busy, act } = useAct()
onMounted(() => draft.saved ?? draft.load()) // it keeps itself up to date once it is read

const open = ref(false)
const chosen = ref<string[]>([])
const note = ref('')
const mine = computed(() => (held.data?.items ?? []).filter((item) => item.entryId === props.entry))
const managed = computed(() => props.attributes.filter((a) => a.managed))

function ask(): void {
  chosen.value = []
  note.value = ''
  open.value = true
}
function choose(target: string, on: boolean): void {
  chosen.value = on ? [...chosen.value, target] : chosen.value.filter((t) => t !== target)
}
async function expect(): Promise<void> {
  const body = {
    version: draft.saved?.version ?? 0,
    entry: props.entry,
    values: chosen.value,
    note: note.value.trim() || undefined,
  }
  const now = await act(() => unwrap(api.POST('/api/v1/settings/draft/expectations', { body })))
  if (!now) return
  draft.take(now)
  open.value = false
  message.success(t('The draft expects it. It counts once the draft is active.'))
}
</script>

<template>
  <section v-if="mine.length || session.may('administrator')" class="sheet expected">
    <header>
      <h2>Expected</h2>
      <span class="quiet">what must hold before other settings become active</span>
      <span class="push" />
      <NButton v-if="session.may('administrator')" size="small" :disabled="!draft.saved" @click="ask"
        >Expect that it stays so…</NButton
      >
    </header>
    <div v-if="mine.length" class="body">
      <div v-for="(item, i) in mine" :key="i" class="one">
        <Tag :text="item.holds ? t('holds') : t('broken')" :tone="item.holds ? 'success' : 'error'" />
        {{ item.said }}
        <span v-if="item.expectation.note" class="quiet">since: {{ item.expectation.note }}</span>
        <Unmet :unmet="item.unmet ?? []" />
      </div>
      <RouterLink :to="{ name: 'settings', query: { view: 'expectations' } }">All expectations</RouterLink>
    </div>
    <NModal v-model:show="open" preset="card" :title="t('Expect of {0} that it stays so', name)" style="width: 620px">
      <p>
        Whether it takes part is kept as the active settings have it. Choose which values must stay too; an activation
        that would change one of them is refused.
      </p>
      <ul v-if="managed.length" class="values">
        <li v-for="a in managed" :key="a.target">
          <NCheckbox :checked="chosen.includes(a.target)" @update:checked="(on: boolean) => choose(a.target, on)"
            >{{ shortTarget(a.target) }}
            <span class="mono quiet">{{ show(a.desired) || t('nothing') }}</span></NCheckbox
          >
        </li>
      </ul>
      <p v-else class="quiet">It takes no part, so there are no values: that it stays out is what is expected.</p>
      <label class="field"
        ><span>Why</span
        ><NInput
          v-model:value="note"
          size="small"
          placeholder="for whoever breaks it"
          :input-props="{ 'aria-label': t('Why it must hold'), maxlength: 500 }"
      /></label>
      <div class="row">
        <NButton size="small" type="primary" :loading="busy" @click="expect">Add to the draft</NButton
        ><NButton size="small" @click="open = false">Leave it</NButton>
      </div>
    </NModal>
  </section>
</template>

<style scoped>
.expected {
  margin-bottom: 14px;
}
.one {
  padding: 2px 0 6px;
}
.values {
  list-style: none;
  margin: 0 0 10px;
  padding: 0;
  max-height: 40vh;
  overflow: auto;
}
</style>
