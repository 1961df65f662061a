<script setup lang="ts">
// What of an expectation does not hold, and what came instead.
import type { Schemas } from '../api/client'
import { shortTarget } from '../parts/words'

defineProps<{ unmet: Schemas['Unmet'][] }>()
</script>

<template>
  <div v-for="one in unmet" :key="one.what" class="unmet">
    {{ shortTarget(one.what) }}: expected <strong>{{ one.expected }}</strong>, got <strong>{{ one.got }}</strong>
    <div v-if="one.why" class="quiet">{{ one.why }}</div>
  </div>
</template>

<style scoped>
.unmet {
  margin-top: 4px;
}
</style>
