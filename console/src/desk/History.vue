<script setup lang="ts">
// What happened to an object, the newest first; each moment leads to how it was before.
import { NButton } from 'naive-ui'
import { ref } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Diffs from '../parts/Diffs.vue'
import Fault from '../parts/Fault.vue'
import { useLoad } from '../parts/use-load'
import { when } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'

type Moment = Schemas['Moment']

const props = defineProps<{ text: string }>()
const emit = defineEmits<{ at: [time: string] }>()
const before = ref('')
const {
  data: history,
  failure,
  again,
} = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/object/history', {
        params: { query: { text: props.text, before: before.value || undefined } },
      }),
    ),
  [() => props.text, before],
)
useLive().listen((event) => event.kind === 'run' && void again())

const marks: Record<Moment['kind'], string> = {
  entry: t('Directory'),
  resource: t('Cloud'),
  change: t('Run'),
  problem: t('Problem'),
  solved: t('Solved'),
  act: t('Act'),
}
const words = (m: Moment) =>
  (m.kind === 'change' ? t('written: {0}', m.text) : m.text) + (m.state && m.state !== 'done' ? ` (${m.state})` : '')
/** A moment before this one. */
const justBefore = (m: Moment) => new Date(Date.parse(m.at) - 1).toISOString()
</script>

<template>
  <section class="sheet">
    <header>
      <h2 id="history-title">History</h2>
      <span v-if="history" class="quiet">remembered since {{ when(history.since) }}</span>
      <NButton v-if="before" size="tiny" class="push" @click="before = ''">Newest</NButton>
    </header>
    <div class="body">
      <Fault v-if="failure" :failure="failure" @again="again" />
      <p v-else-if="history && !history.moments.length" class="quiet">Nothing happened to it in this time.</p>
      <ol v-else>
        <li v-for="(m, i) in history?.moments ?? []" :key="i" :data-kind="m.kind">
          <span class="quiet when">{{ when(m.at) }}</span>
          <span class="mark">{{ marks[m.kind] }}</span>
          <div class="what">
            <div>
              <RouterLink v-if="m.problemId" :to="{ name: 'problem', params: { id: m.problemId } }">{{
                words(m)
              }}</RouterLink><template v-else>{{ words(m) }}</template> {{ ' '
              }}<span class="quiet">
                {{ m.by }}
                <RouterLink v-if="m.runId" :to="{ name: 'run', params: { id: m.runId } }">run {{ m.runId }}</RouterLink>
                <template v-if="m.revision">, settings {{ m.revision }}</template>
              </span>
              <span v-if="m.detail" class="quiet"> {{ m.detail }}</span>
            </div>
            <details v-if="m.diffs.length" :open="i === 0 || undefined">
              <summary class="quiet">before and after</summary>
              <Diffs :diffs="m.diffs" />
            </details>
          </div>
          <button
            v-if="m.kind === 'entry' || m.kind === 'resource' || m.kind === 'change'"
            type="button"
            class="link"
            @click="emit('at', justBefore(m))"
          >
            As it was before
          </button>
        </li>
      </ol>
      <NButton v-if="history?.before" size="small" @click="before = history.before ?? ''">Earlier</NButton>
    </div>
  </section>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 130px 78px 1fr auto;
  gap: 10px;
  padding: 5px 0;
  align-items: baseline;
}
li + li {
  border-top: 1px solid var(--line);
}
.mark {
  font-size: 12px;
  color: var(--ink-3);
}
[data-kind='problem'] .mark {
  color: var(--bad);
}
[data-kind='solved'] .mark {
  color: var(--good);
}
[data-kind='change'] .mark {
  color: var(--accent);
}
.what {
  min-width: 0;
  overflow-wrap: anywhere;
}
summary {
  cursor: pointer;
}
.link {
  background: none;
  border: 0;
  padding: 0;
  font: inherit;
  font-size: 12.5px;
  color: var(--accent);
  cursor: pointer;
}
.link:hover {
  text-decoration: underline;
}
</style>
