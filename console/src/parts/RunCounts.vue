<script setup lang="ts">
// What a run did, in numbers; what is nought is left out.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { language, t } from '../state/language'
import Going from './Going.vue'

const props = defineProps<{ counts: Schemas['Counts'] }>()
const parts = computed(() =>
  (
    [
      [t('created'), props.counts.create, ''],
      [t('adopted'), props.counts.adopt, ''],
      [t('updated'), props.counts.update, ''],
      [t('restored'), props.counts.restore, ''],
      [t('suspended'), props.counts.suspend, 'warn'],
      [t('to be deleted later'), props.counts.leave ?? 0, 'warn'],
      [t('deleted'), props.counts.delete ?? 0, 'warn'],
      [t('unlinked'), props.counts.unlink ?? 0, ''],
      [t('held'), props.counts.held, 'warn'],
      [
        t('with a problem'),
        // Of what writes, the run tells apart what is new.
        props.counts.problemsNew || props.counts.problemsStanding ? 0 : props.counts.problems,
        'bad',
      ],
      [t('new problems'), props.counts.problemsNew ?? 0, 'bad'],
      [t('problems gone'), props.counts.problemsGone ?? 0, ''],
    ] as [string, number, string][]
  ).filter(([, n]) => n > 0),
)
</script>

<template>
  <div class="counts">
    <span v-if="!parts.length" class="quiet">no changes</span>
    <span v-for="[word, n, tone] in parts" :key="word" :class="tone"
      ><strong>{{ n.toLocaleString(language) }}</strong> {{ word }}</span
    >
    <Going :going="counts.going ?? []" />
    <span v-if="counts.needs" class="quiet">takes {{ counts.needs.text }}</span>
  </div>
</template>

<style scoped>
.counts {
  display: flex;
  gap: 4px 16px;
  flex-wrap: wrap;
  margin-top: 4px;
}
</style>
