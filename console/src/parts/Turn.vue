<script setup lang="ts">
// Turns the pages of a list whose pages are found by a cursor.
import { NButton } from 'naive-ui'

defineProps<{ next?: string }>()
const cursor = defineModel<string>('cursor', { required: true })
</script>

<template>
  <div class="row turn">
    <slot />
    <NButton v-if="cursor" size="small" class="push" @click="cursor = ''">First page</NButton>
    <NButton v-if="next" size="small" :class="{ push: !cursor }" @click="cursor = next">Next page</NButton>
  </div>
</template>

<style scoped>
.turn {
  margin-top: 10px;
}
</style>
