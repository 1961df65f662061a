<script setup lang="ts">
// One step of a way: whether it is open, what was found, and what to do.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { t } from '../state/language'
import { when } from './words'

const props = defineProps<{ step: Schemas['PasswordStep']; title?: string }>()
const words = { good: t('open'), doubtful: t('doubtful'), bad: t('closed'), skipped: t('not tried') }
const name = computed(() => props.title ?? props.step.name.charAt(0).toUpperCase() + props.step.name.slice(1))
</script>

<template>
  <div class="step" :data-outcome="step.outcome">
    <div class="head">
      <strong>{{ name }}</strong><span class="word" :data-outcome="step.outcome">{{ words[step.outcome] }}</span>
    </div>
    <div class="quiet detail">{{ step.detail }}{{ step.since ? t(', since {0}', when(step.since)) : '' }}</div>
    <div v-if="step.advice && step.outcome !== 'good'" class="advice">{{ step.advice }}</div>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  gap: 8px;
}
.detail {
  overflow-wrap: anywhere;
}
.advice {
  margin-top: 2px;
}
</style>
