<script setup lang="ts">
// What the cloud itself has of a resource at this moment, beside the mirror.
import { NButton } from 'naive-ui'
import { computed, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { t } from '../state/language'
import { count, shortTarget, show } from './words'

const props = defineProps<{ id: string }>()

const now = shallowRef<Schemas['CloudNow'] | null>(null)
const failure = ref('')
const asking = ref(false)

async function ask(): Promise<void> {
  const id = props.id
  asking.value = true
  failure.value = ''
  try {
    const answer = await unwrap(api.GET('/api/v1/object/now', { params: { query: { text: id } } }))
    if (id === props.id) now.value = answer
  } catch (e) {
    failure.value = (e as Error).message
  } finally {
    asking.value = false
  }
}
watch(
  () => props.id,
  () => {
    now.value = null
    void ask()
  },
  { immediate: true },
)

const same = computed(
  () => now.value?.found && !now.value.differences.length && !now.value.membersLost && !now.value.membersMore,
)
const named = (n: number, names: string[]) =>
  `${names.join(', ')}${n > names.length ? t(' and {0} more', n - names.length) : ''}`
</script>

<template>
  <div class="now" aria-live="polite">
    <span v-if="asking && !now" class="quiet">Asking the cloud…</span>
    <span v-else-if="failure" class="warn">The cloud could not be asked: {{ failure }}</span>
    <span v-else-if="same" class="good">The cloud has just this, as of now.</span>
    <template v-else-if="now">
      <strong class="bad">{{
        now.found ? t('The cloud has something else than the mirror.') : t('The cloud does not have it any more.')
      }}</strong>
      A full run sees that.
      <ul>
        <li v-for="d in now.differences" :key="d.target">
          {{ shortTarget(d.target) }}: {{ show(d.now) || t('nothing') }}, and the mirror has
          {{ show(d.mirror) || t('nothing') }}
        </li>
        <li v-if="now.membersLost">
          {{ count(now.membersLost, 'member') }} missing: {{ named(now.membersLost, now.lost) }}
        </li>
        <li v-if="now.membersMore">
          {{ count(now.membersMore, 'member') }} too many: {{ named(now.membersMore, now.more) }}
        </li>
      </ul>
    </template>
    <NButton text size="tiny" :loading="asking" @click="ask">Ask again</NButton>
  </div>
</template>

<style scoped>
.now {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 8px;
  align-items: baseline;
  margin-top: 8px;
  font-size: 12.5px;
}
.now ul {
  margin: 2px 0 4px;
  padding-left: 18px;
  flex-basis: 100%;
}
</style>
