<script setup lang="ts">
// What is deleted when its grace time is over, with the way to who that is.
import type { Schemas } from '../api/client'

defineProps<{ going: Schemas['Going'][] }>()
</script>

<template>
  <RouterLink v-for="one in going" :key="one.kind" class="warn" :to="{ name: 'leavers' }">{{ one.text }}</RouterLink>
</template>
