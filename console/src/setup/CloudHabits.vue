<script setup lang="ts">
// What is known of the cloud that it does not say, or says otherwise, as edits of the draft.
import { NCheckbox, NInputNumber, NRadio, NRadioGroup } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useDraft } from '../state/draft'
import { t } from '../state/language'
import { useSession } from '../state/session'
import DraftField from './DraftField.vue'

const draft = useDraft()
const session = useSession()
const may = computed(() => session.may('operator'))
onMounted(() => void draft.load())

const cloud = computed(() => draft.document?.cloud)
const habits = computed(() => cloud.value?.habits ?? {})
function say(part: Partial<Schemas['CloudHabits']>): void {
  if (draft.document) draft.document.cloud = { ...cloud.value, habits: { ...habits.value, ...part } }
}
const features = [
  { name: 'patch', text: t('PATCH'), means: t('whole resources are sent instead, read just before') },
  { name: 'bulk', text: t('Bulk'), means: t('each change is a request of its own') },
  { name: 'filter', text: t('Filters'), means: t('all is read, also to find one') },
  { name: 'changes', text: t('Changes since a time'), means: t('each run reads all of the cloud') },
  {
    name: 'etag',
    text: t('Entity tags'),
    means: t('what somebody changes there in the same second may be overwritten'),
  },
]
function without(name: string, left: boolean): void {
  const now = (habits.value.without ?? []).filter((one) => one !== name)
  say({ without: left ? [...now, name] : now })
}
// What stands between two names is kept while they are typed.
const typed = ref('')
const named = computed(() => {
  const kept = cloud.value?.domains ?? []
  return kept.join() === split(typed.value).join() ? typed.value : kept.join(' ')
})
const split = (text: string) => text.split(/[\s,]+/).filter(Boolean)
function domains(text: string): void {
  typed.value = text
  if (draft.document) draft.document.cloud = { ...cloud.value, domains: split(text) }
}
function most(perMinute: number | null): void {
  if (draft.document) draft.document.cloud = { ...cloud.value, requestsPerMinute: perMinute ?? undefined }
}
</script>

<template>
  <template v-if="draft.document">
    <p class="quiet">
      Most of what a cloud does its own way is found while it is used, and needs no word. A
      <RouterLink :to="{ name: 'cloud' }">probe</RouterLink> holds what it promises against what it does.
    </p>
    <h3>Promised, and not to be used</h3>
    <ul>
      <li v-for="feature in features" :key="feature.name">
        <NCheckbox
          :checked="habits.without?.includes(feature.name) ?? false"
          :disabled="!may"
          @update:checked="(left: boolean) => without(feature.name, left)"
          >{{ feature.text }}: <span class="quiet">{{ feature.means }}</span></NCheckbox
        >
      </li>
    </ul>
    <h3>How it is asked</h3>
    <ul>
      <li>
        <NCheckbox
          :checked="habits.wholeAttributes ?? false"
          :disabled="!may"
          @update:checked="(wholeAttributes: boolean) => say({ wholeAttributes })"
          >Set attributes as a whole:
          <span class="quiet">it refuses, or loses, a change of a part of one</span></NCheckbox
        >
      </li>
    </ul>
    <dl class="form">
      <dt>Lists</dt>
      <dd>
        <NRadioGroup
          :value="habits.paging ?? ''"
          name="paging"
          :disabled="!may"
          @update:value="(paging: string) => say({ paging: paging || undefined })"
        >
          <NRadio value="">as it offers them</NRadio><NRadio value="index">by index</NRadio
          ><NRadio value="cursor">by cursor</NRadio>
        </NRadioGroup>
      </dd>
      <dt>Asked for at once</dt>
      <dd class="row">
        <NInputNumber
          :show-button="false"
          :value="habits.pageSize || null"
          size="small"
          class="short"
          :min="1"
          :max="10000"
          clearable
          placeholder="as it says"
          :disabled="!may"
          :input-props="{ 'aria-label': t('Resources asked for at once') }"
          @update:value="(size: number | null) => say({ pageSize: size ?? undefined })"
        />
        resources at most
      </dd>
      <dt>Requests</dt>
      <dd class="row">
        <NInputNumber
          :show-button="false"
          :value="cloud?.requestsPerMinute || null"
          size="small"
          class="short"
          :min="1"
          clearable
          placeholder="as learned"
          :disabled="!may"
          :input-props="{ 'aria-label': t('Requests a minute') }"
          @update:value="most"
        />
        a minute at most
      </dd>
      <dt>Login domains</dt>
      <dd>
        <DraftField :value="named" label="Login domains" placeholder="as the cloud lists them" @change="domains" />
      </dd>
    </dl>
    <p class="quiet">It counts from the next request on, once the draft is activated.</p>
  </template>
</template>

<style scoped>
h3 {
  margin: 16px 0 4px;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
.form {
  display: grid;
  grid-template-columns: 130px 1fr;
  gap: 8px 12px;
  margin: 10px 0 0;
  align-items: center;
}
.form dd {
  margin: 0;
}
.form :deep(.n-radio) {
  margin-right: 16px;
}
.short {
  width: 150px;
}
</style>
