<script setup lang="ts">
// The steps of a probe: what was found, and what to do.
import Tag from '../parts/Tag.vue'
import type { Tone } from '../parts/words'
import type { Schemas } from '../api/client'
import { t } from '../state/language'

defineProps<{ verdicts: Schemas['Verdict'][] }>()
const words: Record<string, { text: string; tone: Tone }> = {
  good: { text: t('Good'), tone: 'success' },
  doubtful: { text: t('Look at it'), tone: 'warning' },
  bad: { text: t('Wrong'), tone: 'error' },
  skipped: { text: t('Not tried'), tone: 'default' },
}
</script>

<template>
  <table class="verdicts">
    <thead>
      <tr>
        <th scope="col">Step</th>
        <th scope="col">Outcome</th>
        <th scope="col">What was found, and what to do</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(verdict, i) in verdicts" :key="i">
        <th scope="row">
          {{ verdict.step.replace('-', ' ') }}<span v-if="verdict.subject" class="quiet"> ({{ verdict.subject }})</span>
        </th>
        <td><Tag v-bind="words[verdict.outcome] ?? { text: verdict.outcome, tone: 'default' }" /></td>
        <td>
          {{ verdict.detail }}
          <div v-if="verdict.advice && verdict.outcome !== 'good'" class="advice">{{ verdict.advice }}</div>
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.verdicts {
  border-collapse: collapse;
  width: 100%;
}
th,
td {
  text-align: left;
  vertical-align: top;
  padding: 5px 10px 5px 0;
  border-bottom: 1px solid var(--line);
  overflow-wrap: anywhere;
}
thead th {
  white-space: nowrap;
  font-weight: 400;
  color: var(--ink-3);
  font-size: 12.5px;
}
tbody th {
  font-weight: 400;
  white-space: nowrap;
}
tbody tr:last-child > * {
  border-bottom: 0;
}
.advice {
  color: var(--ink-2);
  border-left: 3px solid var(--brass);
  padding-left: 8px;
  margin-top: 3px;
}
</style>
