<script setup lang="ts">
// A directory's containers with counts and ticks. The nearest mark on the way
// up decides; a container without a mark follows its parent.
import { NButton, NInput } from 'naive-ui'
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { language, t } from '../state/language'
import { marksOf, pasted, rowsOf, toggled, type Containers, type Row } from './containers'

const containers = defineModel<Containers>({ required: true })
const props = defineProps<{ tree: Schemas['ContainerTree']; disabled?: boolean }>()

const search = ref('')
const closed = ref(new Set<number>())
const pasting = ref(false)
const text = ref('')
const wrong = ref<string[]>([])
const most = 400

const rows = computed(() => rowsOf(props.tree.nodes, marksOf(containers.value)))
const shown = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  const all = rows.value
  if (wanted) {
    const keep = new Set<number>()
    for (const row of all) {
      if (!row.node.dn.toLowerCase().includes(wanted)) continue
      for (let at = row.at; at >= 0; at = all[at]!.node.parent) keep.add(at)
    }
    return all.filter((row) => keep.has(row.at))
  }
  const hidden = new Set<number>()
  return all.filter((row) => {
    const parent = row.node.parent
    if (parent >= 0 && (hidden.has(parent) || closed.value.has(parent))) {
      hidden.add(row.at)
      return false
    }
    return true
  })
})

function toggle(row: Row): void {
  if (props.disabled) return
  containers.value = toggled(containers.value, row, rows.value[row.node.parent]?.state)
}
function fold(row: Row): void {
  const next = new Set(closed.value)
  if (!next.delete(row.at)) next.add(row.at)
  closed.value = next
}
function unmark(row: Row): void {
  const drop = (list?: string[]) => (list ?? []).filter((dn) => dn.toLowerCase() !== row.node.dn.toLowerCase())
  containers.value = { include: drop(containers.value.include), exclude: drop(containers.value.exclude) }
}
function paste(mark: 'include' | 'exclude'): void {
  const result = pasted(containers.value, text.value, mark)
  wrong.value = result.wrong
  if (result.wrong.length) return
  containers.value = result.next
  text.value = ''
  pasting.value = false
}
function keys(event: KeyboardEvent, row: Row): void {
  const items = [
    ...(event.currentTarget as HTMLElement).closest('[role=tree]')!.querySelectorAll<HTMLElement>('[role=treeitem]'),
  ]
  const at = items.indexOf(event.currentTarget as HTMLElement)
  const go = (i: number) => items[i]?.focus()
  const acts: Record<string, () => void> = {
    ArrowDown: () => go(at + 1),
    ArrowUp: () => go(at - 1),
    Home: () => go(0),
    End: () => go(items.length - 1),
    ArrowLeft: () => {
      if (row.children && !closed.value.has(row.at)) fold(row)
    },
    ArrowRight: () => {
      if (closed.value.has(row.at)) fold(row)
    },
    ' ': () => toggle(row),
    Enter: () => toggle(row),
  }
  const act = acts[event.key]
  if (!act) return
  event.preventDefault()
  act()
}
const number = (n: number) => (n ? n.toLocaleString(language) : '·')
</script>

<template>
  <div>
    <div class="row tools">
      <NInput
        v-model:value="search"
        size="small"
        clearable
        placeholder="Find a container"
        style="width: 240px"
        :input-props="{ 'aria-label': t('Find a container'), type: 'search' }"
      />
      <NButton size="small" :disabled="disabled" @click="pasting = !pasting">Paste names…</NButton>
      <span class="quiet">A tick lets in what is below, too, unless something below is marked otherwise.</span>
    </div>
    <div v-if="pasting" class="paste">
      <NInput
        v-model:value="text"
        type="textarea"
        :autosize="{ minRows: 3, maxRows: 8 }"
        class="mono"
        placeholder="One distinguished name on each line"
        :input-props="{ 'aria-label': t('Distinguished names, one on each line') }"
      />
      <div class="row">
        <NButton size="small" @click="paste('include')">Let them in</NButton
        ><NButton size="small" @click="paste('exclude')">Keep them out</NButton>
      </div>
      <div v-for="line in wrong" :key="line" class="bad" role="alert">{{ line }}</div>
    </div>
    <div v-for="gone in tree.vanished" :key="gone.dn" class="bad gone" role="alert">
      <strong>Vanished:</strong> {{ gone.text }}. Until the scope is corrected no run goes on, so that nobody is
      suspended by mistake.
    </div>
    <div class="head quiet" aria-hidden="true">
      <span>Container</span><span>Users</span><span>Groups</span><span>Contacts</span>
    </div>
    <div role="tree" aria-label="Containers" class="tree">
      <div
        v-for="(row, i) in shown.slice(0, most)"
        :key="row.node.dn"
        role="treeitem"
        class="node"
        :tabindex="i === 0 ? 0 : -1"
        :aria-level="row.depth + 1"
        :aria-checked="row.mixed ? 'mixed' : row.state === 'include'"
        :aria-expanded="row.children ? !closed.has(row.at) : undefined"
        :title="row.node.dn"
        @keydown="keys($event, row)"
      >
        <span class="name" :style="{ paddingLeft: row.depth * 20 + 'px' }">
          <button
            type="button"
            class="fold"
            tabindex="-1"
            :style="{ visibility: row.children && !search ? 'visible' : 'hidden' }"
            aria-hidden="true"
            @click="fold(row)"
          >
            {{ closed.has(row.at) ? '▸' : '▾' }}
          </button>
          <button
            type="button"
            class="box"
            tabindex="-1"
            :data-state="row.mixed ? 'mixed' : row.state === 'include' ? 'in' : 'out'"
            :disabled="disabled"
            aria-hidden="true"
            @click="toggle(row)"
          />
          <span class="label" @click="toggle(row)">{{ row.node.name }}</span>
          <button
            v-if="row.mark"
            type="button"
            class="mark"
            tabindex="-1"
            :data-mark="row.mark"
            :disabled="disabled"
            title="Take this mark away: follow the parent again"
            @click="unmark(row)"
          >
            {{ row.mark === 'include' ? t('let in here') : t('kept out here') }}
          </button>
        </span>
        <span>{{ number(row.node.below.users) }}<span class="visually-hidden"> users, </span></span
        ><span>{{ number(row.node.below.groups) }}<span class="visually-hidden"> groups, </span></span
        ><span>{{ number(row.node.below.contacts) }}<span class="visually-hidden"> contacts</span></span>
      </div>
    </div>
    <p v-if="shown.length > most" class="quiet">{{ shown.length - most }} more: search for a name to see them.</p>
    <p v-if="!shown.length" class="quiet">No container has this in its name.</p>
  </div>
</template>

<style scoped>
.paste {
  display: flex;
  flex-direction: column;
  gap: 6px;
  margin-bottom: 10px;
}
.gone {
  border-left: 4px solid var(--bad);
  padding: 4px 10px;
  margin-bottom: 8px;
}
.head,
.node {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 64px 64px 70px;
  text-align: right;
}
.head {
  font-size: 12.5px;
  padding-bottom: 3px;
  border-bottom: 1px solid var(--line);
}
.head span:first-child {
  text-align: left;
}
.tree {
  max-height: 540px;
  overflow: auto;
}
.node {
  padding: 1.5px 0;
  border-radius: 3px;
}
.node:hover {
  background: color-mix(in srgb, var(--brass) 9%, transparent);
}
.name {
  text-align: left;
  display: flex;
  align-items: center;
  gap: 6px;
  min-width: 0;
}
.label {
  cursor: pointer;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.fold {
  background: none;
  border: 0;
  color: var(--ink-3);
  width: 16px;
  padding: 0;
  cursor: pointer;
}
.box {
  width: 15px;
  height: 15px;
  border: 1.5px solid var(--ink-3);
  border-radius: 3px;
  background: none;
  padding: 0;
  cursor: pointer;
  flex: none;
  position: relative;
}
.box[data-state='in'] {
  background: var(--accent);
  border-color: var(--accent);
}
.box[data-state='in']::after {
  content: '';
  position: absolute;
  left: 4px;
  top: 0.5px;
  width: 4px;
  height: 8px;
  border: solid var(--sheet);
  border-width: 0 2px 2px 0;
  transform: rotate(42deg);
}
.box[data-state='mixed']::after {
  content: '';
  position: absolute;
  inset: 3px;
  background: var(--accent);
}
.mark {
  font-size: 11.5px;
  border: 1px solid currentColor;
  border-radius: 3px;
  padding: 0 5px;
  background: none;
  color: var(--good);
  cursor: pointer;
}
.mark[data-mark='exclude'] {
  color: var(--bad);
}
.mark:hover {
  text-decoration: line-through;
}
</style>
