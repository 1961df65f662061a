<script setup lang="ts">
// Who is told of what, as an edit of the draft.
import { NButton, NCheckbox, NCheckboxGroup } from 'naive-ui'
import { computed, onMounted } from 'vue'

import type { Schemas } from '../api/client'
import { useDraft } from '../state/draft'
import { t } from '../state/language'
import { useSession } from '../state/session'
import DraftBar from './DraftBar.vue'
import DraftField from './DraftField.vue'

type Kind = 'failures' | 'digest' | 'weekly-report' | 'monthly-report'

const kinds: { value: Kind; text: string }[] = [
  { value: 'failures', text: t('failures') },
  { value: 'digest', text: t('digest of the day') },
  { value: 'weekly-report', text: t('weekly report') },
  { value: 'monthly-report', text: t('monthly report') },
]
const fields = [
  { name: 'digest', text: t('Digest at'), label: t('Time of the digest'), example: '07:00, or off' },
  { name: 'webhook', text: t('Webhook'), label: t('Webhook'), example: 'https://hooks.halvard.example/kambrel' },
] as const
const usual: Kind[] = ['failures', 'digest']

const draft = useDraft()
const session = useSession()
const may = computed(() => session.may('operator'))
const notices = computed(() => draft.document?.notices)
const recipients = computed(() => notices.value?.recipients ?? [])
onMounted(() => void draft.load())

function change(edit: (notices: Schemas['Notices']) => void): void {
  if (!draft.document) return
  const now = (draft.document.notices ??= {})
  edit(now)
  if (!now.recipients?.length) delete now.recipients
}
const set = (at: number, one: Schemas['Recipient']) => change((n) => n.recipients?.splice(at, 1, one))
const add = () => change((n) => (n.recipients = [...(n.recipients ?? []), { to: '', of: [...usual] }]))
const remove = (at: number) => change((n) => n.recipients?.splice(at, 1))
function optional(name: 'digest' | 'webhook', value: string): void {
  change((n) => {
    if (value.trim()) n[name] = value.trim()
    else delete n[name]
  })
}
</script>

<template>
  <DraftBar />
  <section v-if="draft.document" class="sheet">
    <header><h2>Who is told of what</h2></header>
    <div class="body">
      <table class="told">
        <tbody>
          <tr v-for="(one, i) in recipients" :key="i">
            <td>
              <DraftField
                :value="one.to"
                :label="t('Address {0}', i + 1)"
                placeholder="name@halvard.example"
                @change="(to) => set(i, { ...one, to })"
              />
            </td>
            <td>
              <NCheckboxGroup
                :value="one.of?.length ? one.of : usual"
                :disabled="!may"
                @update:value="(of: (string | number)[]) => set(i, { ...one, of: of as Kind[] })"
              >
                <NCheckbox v-for="kind in kinds" :key="kind.value" :value="kind.value" :label="kind.text" />
              </NCheckboxGroup>
            </td>
            <td>
              <NButton
                size="tiny"
                :disabled="!may"
                :aria-label="t('Tell {0} nothing more', one.to || t('them'))"
                @click="remove(i)"
                >Remove</NButton
              >
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="!recipients.length" class="quiet">Nobody yet.</p>
      <div class="row">
        <NButton size="small" :disabled="!may" @click="add">Add somebody</NButton>
        <label v-for="field in fields" :key="field.name" :class="field.name"
          >{{ field.text }}
          <DraftField
            :value="notices?.[field.name]"
            :label="field.label"
            :placeholder="field.example"
            @change="(value) => optional(field.name, value)"
        /></label>
      </div>
      <p class="quiet">
        Failures are told at once, and when it is well again. Reports go out at the time of the digest, on Mondays and
        on the first of the month. It counts once the draft is activated.
      </p>
    </div>
  </section>
</template>

<style scoped>
.told {
  width: 100%;
}
.told td {
  padding: 3px 10px 3px 0;
  vertical-align: middle;
}
.told td:first-child {
  width: 280px;
}
.sheet {
  margin-bottom: 14px;
}
label {
  display: flex;
  align-items: center;
  gap: 8px;
}
.digest .n-input {
  width: 120px;
}
.webhook {
  flex: 1;
}
.row {
  margin-top: 8px;
}
</style>
