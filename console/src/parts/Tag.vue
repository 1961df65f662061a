<script setup lang="ts">
// A state in a word; the colour only repeats what the word says.
import type { Tone } from './words'

defineProps<{ text: string; tone: Tone }>()
</script>

<template>
  <span class="tag" :data-tone="tone">{{ text }}</span>
</template>

<style scoped>
.tag {
  display: inline-block;
  padding: 0 7px;
  border-radius: 3px;
  font-size: 12px;
  line-height: 19px;
  border: 1px solid currentColor;
  color: var(--ink-3);
  white-space: nowrap;
}
[data-tone='success'] {
  color: var(--good);
}
[data-tone='warning'] {
  color: var(--warn);
}
[data-tone='error'] {
  color: var(--bad);
}
[data-tone='info'] {
  color: var(--accent);
}
</style>
