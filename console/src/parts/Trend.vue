<script setup lang="ts">
// What came and went on each of the last days, as bars: opened upwards, closed downwards.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { t } from '../state/language'
import { count } from './words'

const props = defineProps<{ days: Schemas['ProblemDay'][] }>()
const most = computed(() => Math.max(1, ...props.days.map((d) => Math.max(d.opened, d.closed))))
const opened = computed(() => props.days.reduce((sum, d) => sum + d.opened, 0))
const closed = computed(() => props.days.reduce((sum, d) => sum + d.closed, 0))
const tall = (n: number) => (n ? Math.max(1.5, (n / most.value) * 10) : 0)
</script>

<template>
  <svg
    :viewBox="`0 0 ${days.length * 6} 22`"
    :width="days.length * 6"
    height="22"
    role="img"
    :aria-label="t('{0} opened and {1} closed in {2} days', count(opened, 'problem'), closed, days.length)"
  >
    <title>{{ opened }} opened, {{ closed }} closed in {{ days.length }} days</title>
    <line x1="0" y1="11" :x2="days.length * 6" y2="11" stroke="var(--line)" />
    <g v-for="(day, i) in days" :key="day.day">
      <rect
        v-if="day.opened"
        :x="i * 6"
        :y="11 - tall(day.opened)"
        width="4.5"
        :height="tall(day.opened)"
        fill="var(--bad)"
      />
      <rect v-if="day.closed" :x="i * 6" y="11" width="4.5" :height="tall(day.closed)" fill="var(--good)" />
    </g>
  </svg>
</template>
