<script setup lang="ts">
// Attributes before and after, with the rule that caused each change.
import type { Schemas } from '../api/client'
import { shortTarget, show } from './words'

type Member = Schemas['Member']

// A large group names the first of its members only.
const most = 12
const named = (members: Member[] | undefined): string[] => (members ?? []).slice(0, most).map((m) => m.name || m.value)
const more = (members: Member[] | undefined): number => Math.max(0, (members?.length ?? 0) - most)

defineProps<{ diffs: Schemas['Diff'][] }>()
</script>

<template>
  <table class="diffs">
    <thead>
      <tr>
        <th>Attribute</th>
        <th>Before</th>
        <th>After</th>
        <th>Caused by</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="diff in diffs" :key="diff.target">
        <td class="mono" :title="diff.target">{{ shortTarget(diff.target) }}</td>
        <template v-if="diff.added?.length || diff.removed?.length">
          <td class="list">
            <span v-for="name in named(diff.removed)" :key="name" class="taken">{{ name }}</span><span
              v-if="more(diff.removed)"
              class="quiet"
              >and {{ more(diff.removed) }} more</span
            >
          </td>
          <td class="list">
            <span v-for="name in named(diff.added)" :key="name" class="added">{{ name }}</span><span
              v-if="more(diff.added)"
              class="quiet"
              >and {{ more(diff.added) }} more</span
            >
          </td>
        </template>
        <td v-if="!diff.added?.length && !diff.removed?.length" class="mono">
          <span v-if="show(diff.before)" class="taken">{{ show(diff.before) }}</span><span v-else class="quiet"
            >nothing</span
          >
        </td>
        <td v-if="!diff.added?.length && !diff.removed?.length" class="mono">
          <span v-if="show(diff.after)" class="added">{{ show(diff.after) }}</span><span v-else class="quiet"
            >nothing</span
          >
        </td>
        <td class="quiet">{{ diff.source }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.diffs {
  border-collapse: collapse;
  width: 100%;
  font-size: 12.5px;
}
th {
  white-space: nowrap;
  text-align: left;
  font-weight: 500;
  color: var(--ink-3);
  padding: 3px 10px 3px 0;
}
td {
  padding: 3px 10px 3px 0;
  vertical-align: top;
  overflow-wrap: anywhere;
  border-top: 1px solid var(--line);
}
/* A short value stays in one piece. */
td:nth-child(2),
td:nth-child(3) {
  min-width: 70px;
}
.list span {
  margin: 0 4px 2px 0;
  display: inline-block;
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
