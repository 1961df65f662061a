<script setup lang="ts">
// What went wrong with loading, and the way on.
import { NButton } from 'naive-ui'

import type { Refusal } from '../api/client'
import { t } from '../state/language'

defineProps<{ failure: Refusal }>()
defineEmits<{ again: [] }>()
</script>

<template>
  <div class="sheet fault" role="alert">
    <strong class="bad">{{ t(failure.title) }}</strong>
    <p>{{ failure.detail }}</p>
    <NButton size="small" @click="$emit('again')">Try again</NButton>
  </div>
</template>

<style scoped>
.fault {
  padding: 16px 18px;
  max-width: 720px;
}
p {
  margin: 6px 0 12px;
}
</style>
