<script setup lang="ts">
// A tree of reasons. Each statement says how it came out; those that decided
// are marked.
import type { Reason } from '../api/client'
import { shortTarget } from './words'

withDefaults(defineProps<{ nodes: Reason[]; depth?: number }>(), { depth: 0 })

const words: Record<Reason['outcome'], string> = { yes: 'yes', no: 'no', note: '', bad: 'problem' }
const signs: Record<Reason['outcome'], string> = { yes: '✓', no: '✕', note: '·', bad: '!' }

/** Whether a statement, or one below it, decided. */
const decided = (node: Reason): boolean => Boolean(node.deciding) || (node.children ?? []).some(decided)
</script>

<template>
  <ul :class="{ top: depth === 0 }">
    <li v-for="(node, i) in nodes" :key="i">
      <component
        :is="node.children?.length ? 'details' : 'div'"
        class="node"
        :open="depth < 1 || decided(node) ? '' : undefined"
      >
        <component
          :is="node.children?.length ? 'summary' : 'div'"
          class="line"
          :class="{ deciding: node.deciding && depth > 0 }"
        >
          <span class="sign" :data-outcome="node.outcome" aria-hidden="true">{{ signs[node.outcome] }}</span>
          <span
            class="text"
            :class="{ mono: depth > 1, head: depth === 0 }"
            :title="node.text.startsWith('urn:') ? node.text : undefined"
            >{{ shortTarget(node.text)
            }}<span v-if="words[node.outcome]" class="visually-hidden"> ({{ words[node.outcome] }})</span></span
          >
          <span v-if="node.value" class="value" :class="{ mono: depth > 0 }">{{ node.value }}</span>
          <span v-if="node.source" class="quiet source">{{ node.source }}</span>
          <span v-if="node.deciding && depth > 0" class="mark">decides</span>
          <span v-if="node.children?.length" class="fold" aria-hidden="true" />
        </component>
        <Reasons v-if="node.children?.length" :nodes="node.children" :depth="depth + 1" />
      </component>
    </li>
  </ul>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 0 0 0 20px;
}
ul.top {
  padding: 0;
}
.top > li + li {
  border-top: 1px solid var(--line);
  margin-top: 6px;
  padding-top: 6px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 9px;
  align-items: baseline;
  padding: 2px 6px;
  border-radius: 4px;
}
summary.line {
  cursor: pointer;
}
summary.line::-webkit-details-marker {
  display: none;
}
.line.deciding {
  background: color-mix(in srgb, var(--brass) 20%, transparent);
}
.sign {
  width: 12px;
  text-align: center;
  color: var(--ink-3);
  font-weight: 700;
  flex: none;
}
[data-outcome='yes'] {
  color: var(--good);
}
[data-outcome='no'] {
  color: var(--warn);
}
[data-outcome='bad'] {
  color: var(--bad);
}
.head {
  font-weight: 650;
}
.text {
  overflow-wrap: anywhere;
}
.value {
  color: var(--ink-2);
  overflow-wrap: anywhere;
}
.text + .value::before {
  content: '→ ';
  color: var(--ink-3);
}
.source {
  font-size: 12px;
  overflow-wrap: anywhere;
}
details > summary .fold::after {
  content: '▸';
  color: var(--ink-3);
}
details[open] > summary .fold::after {
  content: '▾';
}
.mark {
  font-size: 11px;
  border: 1px solid var(--brass);
  border-radius: 3px;
  padding: 0 5px;
  align-self: center;
}
</style>
