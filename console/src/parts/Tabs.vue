<script setup lang="ts">
// Views of one page, chosen with mouse or arrow keys.
const value = defineModel<string>({ required: true })
const props = defineProps<{ choices: { value: string; text: string }[]; label: string }>()

function step(event: KeyboardEvent, by: number): void {
  const at = props.choices.findIndex((choice) => choice.value === value.value)
  const next = props.choices[(at + by + props.choices.length) % props.choices.length]
  if (!next) return
  value.value = next.value
  const tabs = (event.currentTarget as HTMLElement).querySelectorAll<HTMLElement>('[role=tab]')
  tabs[props.choices.indexOf(next)]?.focus()
}
</script>

<template>
  <div
    role="tablist"
    class="tabs"
    :aria-label="label"
    @keydown.left.prevent="step($event, -1)"
    @keydown.right.prevent="step($event, 1)"
  >
    <button
      v-for="choice in choices"
      :key="choice.value"
      type="button"
      role="tab"
      :aria-selected="choice.value === value"
      :tabindex="choice.value === value ? 0 : -1"
      @click="value = choice.value"
    >
      {{ choice.text }}
    </button>
  </div>
</template>

<style scoped>
.tabs {
  display: flex;
  gap: 18px;
  border-bottom: 1px solid var(--line);
}
button {
  background: none;
  border: 0;
  border-bottom: 2px solid transparent;
  margin-bottom: -1px;
  padding: 6px 0;
  font: inherit;
  color: var(--ink-3);
  cursor: pointer;
}
button:hover {
  color: var(--accent);
}
[aria-selected='true'] {
  color: var(--ink);
  border-bottom-color: var(--brass);
  font-weight: 650;
}
</style>
