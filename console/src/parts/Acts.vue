<script setup lang="ts">
// What was done, by whom, with what was before and after.
import type { Schemas } from '../api/client'
import { t } from '../state/language'
import Tag from './Tag.vue'
import { show, when } from './words'

defineProps<{ acts: Schemas['Act'][]; things?: boolean }>()

type Fields = Record<string, unknown>
const fields = (value: unknown): Fields => (value && typeof value === 'object' ? (value as Fields) : {})

/** What differs between before and after, field by field. */
function differences(act: Schemas['Act']): { name: string; before: string; after: string }[] {
  const before = fields(act.before)
  const after = fields(act.after)
  return [...new Set([...Object.keys(before), ...Object.keys(after)])]
    .map((name) => ({ name, before: show(before[name]), after: show(after[name]) }))
    .filter((d) => d.before !== d.after)
}
</script>

<template>
  <ul class="acts">
    <li v-for="act in acts" :key="act.id">
      <span class="quiet when">{{ when(act.at) }}</span>
      <span>
        <strong>{{ act.by }}</strong><span v-if="act.origin" class="quiet"> from {{ act.origin }}</span>
        {{ act.title.charAt(0).toLowerCase() + act.title.slice(1)
        }}<template v-if="things && act.name">: {{ act.name }}</template>
        <Tag v-if="act.result !== 'done'" :text="act.result" tone="error" />
        <span v-if="act.note" class="quiet">&nbsp; {{ act.note }}</span>
        <details v-if="differences(act).length">
          <summary class="quiet">before and after</summary>
          <dl class="facts">
            <template v-for="d in differences(act)" :key="d.name"
              ><dt>{{ d.name }}</dt>
              <dd>
                <span class="taken">{{ d.before || t('nothing') }}</span> →
                <span class="added">{{ d.after || t('nothing') }}</span>
              </dd></template
            >
          </dl>
        </details>
      </span>
    </li>
  </ul>
</template>

<style scoped>
.acts {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: flex;
  gap: 12px;
  padding: 5px 0;
}
li + li {
  border-top: 1px solid var(--line);
}
.when {
  flex: none;
  width: 130px;
}
dd {
  overflow-wrap: anywhere;
}
.taken {
  background: var(--taken);
  padding: 0 4px;
  border-radius: 3px;
}
.added {
  background: var(--added);
  padding: 0 4px;
  border-radius: 3px;
}
</style>
