<script setup lang="ts">
// One group of conditions, and the groups within it.
import { NButton, NInput, NSelect } from 'naive-ui'

import { t } from '../state/language'
import { emptyCondition, offers, type Condition, type Group } from './filters'

const props = defineProps<{ group: Group; depth?: number; disabled?: boolean }>()
const emit = defineEmits<{ change: []; remove: [] }>()

const joins = [
  { label: t('all of these hold'), value: 'all' },
  { label: t('any of these holds'), value: 'any' },
  { label: t('none of these holds'), value: 'none' },
]
const join = () => (props.group.not ? 'none' : props.group.all ? 'all' : 'any')

/* eslint-disable vue/no-mutating-props -- the group is the parent's own model, and change tells it */
function setJoin(value: string): void {
  props.group.not = value === 'none'
  props.group.all = value === 'all'
  emit('change')
}
function add(part: Condition | Group): void {
  props.group.parts.push(part)
  emit('change')
}
function drop(i: number): void {
  props.group.parts.splice(i, 1)
  emit('change')
}
function set(part: Condition, values: Partial<Condition>): void {
  Object.assign(part, values)
  emit('change')
}
/* eslint-enable vue/no-mutating-props */
const attributes = [
  'objectClass',
  'title',
  'department',
  'employeeType',
  'mail',
  'cn',
  'memberOf',
  'userPrincipalName',
  'description',
].map((value) => ({ label: value, value }))
</script>

<template>
  <div class="group" :class="{ inner: (depth ?? 0) > 0 }">
    <div class="row">
      <NSelect
        size="small"
        style="width: 180px"
        :value="join()"
        :options="joins"
        :disabled="disabled"
        aria-label="How the conditions are joined"
        @update:value="setJoin"
      />
      <NButton
        v-if="(depth ?? 0) > 0"
        size="tiny"
        quaternary
        :disabled="disabled"
        aria-label="Remove the group"
        @click="$emit('remove')"
        >Remove group</NButton
      >
    </div>
    <template v-for="(part, i) in group.parts" :key="i">
      <FilterBuilder
        v-if="part.kind === 'group'"
        :group="part"
        :depth="(depth ?? 0) + 1"
        :disabled="disabled"
        @change="$emit('change')"
        @remove="drop(i)"
      />
      <div v-else class="row condition">
        <NSelect
          size="small"
          filterable
          tag
          class="what"
          :value="part.attribute || null"
          :options="attributes"
          placeholder="attribute"
          :disabled="disabled"
          aria-label="Attribute"
          @update:value="(attribute: string) => set(part, { attribute })"
        />
        <NSelect
          size="small"
          class="how"
          :value="(part.not ? 'not ' : '') + part.comparison"
          :options="offers"
          :disabled="disabled"
          aria-label="Comparison"
          @update:value="
            (v: string) =>
              set(part, { not: v.startsWith('not '), comparison: v.replace('not ', '') as Condition['comparison'] })
          "
        />
        <NInput
          v-if="part.comparison !== 'present'"
          size="small"
          class="what"
          :value="part.value"
          placeholder="value"
          :disabled="disabled"
          :input-props="{ 'aria-label': t('Value') }"
          @update:value="(value: string) => set(part, { value })"
        />
        <NButton size="tiny" quaternary :disabled="disabled" aria-label="Remove the condition" @click="drop(i)"
          >✕</NButton
        >
      </div>
    </template>
    <div class="row">
      <NButton size="tiny" :disabled="disabled" @click="add(emptyCondition())">Add condition</NButton>
      <NButton
        size="tiny"
        :disabled="disabled"
        @click="add({ kind: 'group', not: false, all: false, parts: [emptyCondition()] })"
        >Add group</NButton
      >
    </div>
  </div>
</template>

<style scoped>
.group {
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.inner {
  border-left: 3px solid var(--line);
  padding-left: 10px;
}
.condition {
  gap: 5px;
  flex-wrap: nowrap;
}
.what {
  flex: 1 1 110px;
  min-width: 90px;
}
.how {
  flex: 0 0 142px;
}
</style>
