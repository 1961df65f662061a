<script setup lang="ts">
// The fields of an assertion against what the cloud expects.
import type { Schemas } from '../api/client'
import Tag from '../parts/Tag.vue'
import type { Tone } from '../parts/words'
import { t } from '../state/language'

defineProps<{ fields: Schemas['AssertionField'][] }>()
const words: Record<string, { text: string; tone: Tone }> = {
  good: { text: t('Good'), tone: 'success' },
  doubtful: { text: t('Look at it'), tone: 'warning' },
  bad: { text: t('Wrong'), tone: 'error' },
}
</script>

<template>
  <table class="list">
    <thead>
      <tr>
        <th scope="col">Field</th>
        <th scope="col">Outcome</th>
        <th scope="col">What came</th>
        <th scope="col">What the cloud expects</th>
      </tr>
    </thead>
    <tbody>
      <template v-for="field in fields" :key="field.name">
        <tr :class="{ last: !field.reason }">
          <th scope="row">{{ field.name }}</th>
          <td><Tag v-bind="words[field.outcome] ?? { text: field.outcome, tone: 'default' }" /></td>
          <td class="mono">{{ field.got || t('nothing') }}</td>
          <td class="mono">
            <span v-if="field.got === field.expected && field.outcome === 'good'" class="quiet">the same</span
            ><template v-else>{{ field.expected }}</template>
          </td>
        </tr>
        <tr v-if="field.reason">
          <td />
          <td colspan="3">
            <div class="reason" :class="{ wrong: field.outcome === 'bad' }">{{ field.reason }}</div>
          </td>
        </tr>
      </template>
    </tbody>
  </table>
</template>

<style scoped>
tbody th {
  white-space: nowrap;
  color: inherit;
  font-size: inherit;
}
td.mono {
  overflow-wrap: anywhere;
}
tr:not(.last):has(+ tr .reason) > * {
  border-bottom: 0;
}
.reason {
  border-left: 3px solid var(--brass);
  padding-left: 8px;
  margin-bottom: 2px;
}
.reason.wrong {
  border-left-color: var(--bad);
}
</style>
