<script setup lang="ts">
// What the last probe has found of the rights of an agent's account, in one place.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { t } from '../state/language'
import { when } from './words'

const props = defineProps<{ steps: Schemas['PasswordStep'][] }>()
const order = ['good', 'skipped', 'doubtful', 'bad']
const worst = computed(() => props.steps.reduce((found, step) => Math.max(found, order.indexOf(step.outcome)), 0))
const tried = computed(() => props.steps.find((step) => step.since)?.since)
const words = { good: 'may', doubtful: 'doubtful', bad: t('may not'), skipped: t('not tried') }
</script>

<template>
  <div class="step" :data-outcome="order[worst]">
    <strong>Rights</strong><span class="quiet">{{ tried ? t(', tried {0}', when(tried)) : '' }}</span>
    <div v-for="step in steps" :key="step.name" class="right">
      <span>{{ step.name.replace('right ', '').replace('-', ' ') }}</span><span
        class="word"
        :data-outcome="step.outcome"
        >{{ words[step.outcome] }}</span
      >
      <div v-if="step.outcome !== 'good'" class="more">
        <span class="quiet">{{ step.detail }}</span> {{ step.advice }}
      </div>
    </div>
  </div>
</template>

<style scoped>
.right {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
}
.more {
  flex-basis: 100%;
}
</style>
