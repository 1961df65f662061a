<script setup lang="ts">
// What a run has to do with problems: those that it has opened and closed, and those that
// stood before it; each leads to them.
import { computed } from 'vue'

import type { Run } from '../api/client'
import { t } from '../state/language'
import { count } from './words'

const props = defineProps<{ run: Run }>()
const parts = computed(() =>
  (
    [
      ['new', props.run.counts.problemsNew ?? 0, 'bad'],
      ['gone', props.run.counts.problemsGone ?? 0, 'good'],
      ['standing', props.run.counts.problemsStanding ?? 0, 'quiet'],
    ] as const
  ).filter(([, n]) => n > 0),
)
const text = (share: (typeof parts.value)[number][0], n: number) =>
  ({
    new: () => count(n, 'new problem'),
    gone: () => count(n, 'problem gone', 'problems gone'),
    standing: () => t('{0} from before', count(n, 'problem')),
  })[share]()
</script>

<template>
  <p v-if="parts.length" class="row problems">
    <RouterLink
      v-for="[share, n, tone] in parts"
      :key="share"
      :class="tone"
      :to="{ name: 'problems', query: { run: run.id, ...(share === 'new' ? {} : { share }) } }"
      >{{ text(share, n) }}</RouterLink
    >
  </p>
</template>

<style scoped>
.problems {
  margin: 0 0 10px 2px;
  gap: 16px;
}
.good {
  color: var(--good);
}
</style>
