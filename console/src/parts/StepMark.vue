<script setup lang="ts">
// The mark before a step: done, the one to take now, or its number.
defineProps<{ done: boolean; next: boolean; text: string | number }>()
</script>

<template>
  <span class="mark" :class="{ done, next }" aria-hidden="true">{{ done ? '✓' : text }}</span>
</template>

<style scoped>
.mark {
  flex: none;
  width: 20px;
  height: 20px;
  border-radius: 50%;
  border: 1.5px solid currentColor;
  display: inline-grid;
  place-items: center;
  font-size: 12px;
  color: var(--ink-3);
}
.done {
  color: var(--good);
}
.next {
  border-color: var(--brass);
  background: var(--brass);
  color: var(--on-brass);
}
</style>
