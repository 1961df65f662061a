<script setup lang="ts">
// One rule: how an attribute of the resource gets its value.
import { NButton, NInput, NSelect, NSwitch } from 'naive-ui'
import { computed, ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { t } from '../state/language'
import FormulaEditor from './FormulaEditor.vue'
import { byWay, literal, meaning, same, wayOf, ways, type Rule, type Way } from './rules'

const rule = defineModel<Rule>({ required: true })
const props = defineProps<{
  kind: string
  target?: Schemas['Target']
  usual?: Rule
  disabled?: boolean
  attributes: string[]
  directories: string[]
  functions: Schemas['FormulaFunction'][]
  /** What rules read: an entry, or for those of cloud groups a group of the cloud. */
  over?: 'entry' | 'resource'
}>()
const emit = defineEmits<{ remove: [] }>()

const way = computed({
  get: () => wayOf(rule.value),
  set: (value: Way) => (rule.value = byWay(rule.value, value, props.over)),
})
const possible = computed(() => {
  const whole = Boolean(props.target?.multiValued)
  if (props.over === 'resource') return ways.filter((w) => ['from', 'always', 'formula'].includes(w.value))
  if (rule.value.target.toLowerCase() === 'members') return ways.filter((w) => w.value === 'reference')
  return ways.filter((w) =>
    w.value === 'granted'
      ? whole && props.kind === 'users'
      : w.value === 'from' || w.value === 'always'
        ? !whole || props.target?.type !== 'complex'
        : true,
  )
})
const about = computed(() =>
  [
    props.target?.description?.replace(/\.$/, ''),
    props.target?.required && t('The cloud requires it'),
    props.target?.unique && t('Unique in the cloud'),
  ]
    .filter(Boolean)
    .map((part) => `${part}.`)
    .join(' '),
)
const entry = ref('')
const more = ref(false)
watch(
  () => rule.value.target,
  () => (more.value = Boolean(rule.value.when || rule.value.fallback)),
  { immediate: true },
)
function set<K extends keyof Rule>(name: K, value: Rule[K] | undefined): void {
  rule.value = { ...rule.value, [name]: value }
}
const grants = computed(() => rule.value.granted ?? [])
function grant(at: number, change: Partial<Schemas['Grant']>): void {
  set(
    'granted',
    grants.value.map((g, i) => (i === at ? { ...g, ...change } : g)),
  )
}
</script>

<template>
  <section class="sheet rule" :aria-label="t('Rule for {0}', rule.target)">
    <header>
      <h2 class="mono">{{ rule.target }}</h2>
      <span class="push" />
      <NButton v-if="usual && !same(rule, usual)" size="tiny" :disabled="disabled" @click="rule = { ...usual }"
        >Restore default</NButton
      >
      <NButton size="tiny" :disabled="disabled" @click="emit('remove')">Remove rule</NButton>
    </header>
    <div class="body">
      <p class="quiet">{{ about }}</p>
      <NSelect
        v-model:value="way"
        size="small"
        :options="possible.map((w) => ({ label: w.text, value: w.value }))"
        :disabled="disabled"
        aria-label="How the value is made"
      />
      <p class="quiet">{{ meaning(way, over) }}</p>
      <NSelect
        v-if="way === 'from'"
        size="small"
        filterable
        tag
        :value="rule.from || null"
        :options="attributes.map((a) => ({ label: a, value: a }))"
        :placeholder="over === 'resource' ? t('attribute of the group') : t('attribute of the directory')"
        :disabled="disabled"
        :aria-label="over === 'resource' ? t('Attribute of the group') : t('Directory attribute')"
        @update:value="(value: string) => set('from', value)"
      />
      <NInput
        v-else-if="way === 'always'"
        size="small"
        :value="String(rule.always ?? '')"
        :disabled="disabled"
        :input-props="{ 'aria-label': t('Fixed value') }"
        @update:value="(value: string) => set('always', literal(value))"
      />
      <FormulaEditor
        v-else-if="way === 'formula'"
        :key="rule.target"
        :model-value="rule.formula ?? ''"
        label="Formula"
        :disabled="disabled"
        :attributes="attributes"
        :functions="functions"
        :entry="entry"
        :over="over"
        @entry="(value) => (entry = value)"
        @update:model-value="(value) => set('formula', value)"
      />
      <NInput
        v-else-if="way === 'reference' && rule.target.toLowerCase() !== 'members'"
        size="small"
        :value="rule.reference ?? ''"
        :disabled="disabled"
        :input-props="{ 'aria-label': t('Directory attribute that names another entry') }"
        @update:value="(value: string) => set('reference', value)"
      />
      <template v-else-if="way === 'granted'">
        <div v-for="(one, i) in grants" :key="i" class="row grant">
          <NInput
            size="small"
            style="width: 120px"
            :value="one.value"
            placeholder="value"
            :disabled="disabled"
            :input-props="{ 'aria-label': t('Value {0}', i + 1) }"
            @update:value="(value: string) => grant(i, { value })"
          />
          <NInput
            size="small"
            class="wide"
            :value="one.group"
            placeholder="distinguished name of the group"
            :disabled="disabled"
            :input-props="{ 'aria-label': t('Group {0}', i + 1) }"
            @update:value="(group: string) => grant(i, { group })"
          />
          <NButton
            size="tiny"
            quaternary
            :disabled="disabled || grants.length < 2"
            aria-label="Take this grant away"
            @click="
              set(
                'granted',
                grants.filter((_, at) => at !== i),
              )
            "
            >×</NButton
          >
        </div>
        <NButton size="tiny" :disabled="disabled" @click="set('granted', [...grants, { group: '', value: '' }])"
          >Another grant</NButton
        >
      </template>
      <template v-if="way !== 'reference'">
        <div v-if="way !== 'granted'" class="row switches">
          <label
            ><NSwitch
              aria-label="Required"
              size="small"
              :value="Boolean(rule.required)"
              :disabled="disabled"
              @update:value="(on: boolean) => set('required', on || undefined)"
            />Required</label
          >
          <label
            ><NSwitch
              aria-label="On creation only"
              size="small"
              :value="Boolean(rule.createOnly)"
              :disabled="disabled"
              @update:value="(on: boolean) => set('createOnly', on || undefined)"
            />On creation only</label
          >
          <NButton v-if="!more" size="tiny" quaternary @click="more = true">Condition, fallback…</NButton>
        </div>
        <NButton v-else-if="!more" size="tiny" quaternary @click="more = true">Condition, fallback…</NButton>
        <label v-if="directories.length > 1 && way !== 'granted'" class="prefer"
          >Asked first, where a person has entries in several directories
          <NSelect
            size="small"
            multiple
            clearable
            :value="rule.prefer ?? []"
            :options="directories.map((d) => ({ label: d, value: d }))"
            :placeholder="t('as in the settings: {0}', directories.join(', '))"
            :disabled="disabled"
            aria-label="Directories that are asked first"
            @update:value="(value: string[]) => set('prefer', value.length ? value : undefined)"
        /></label>
        <template v-if="more">
          <h3>Only when</h3>
          <FormulaEditor
            :key="'when ' + rule.target"
            :model-value="rule.when ?? ''"
            label="Condition"
            :disabled="disabled"
            :attributes="attributes"
            :functions="functions"
            :entry="entry"
            :over="over"
            @entry="(value) => (entry = value)"
            @update:model-value="(value) => set('when', value || undefined)"
          />
          <h3>Where the rule gives nothing</h3>
          <FormulaEditor
            :key="'fallback ' + rule.target"
            :model-value="rule.fallback ?? ''"
            label="Fallback"
            :disabled="disabled"
            :attributes="attributes"
            :functions="functions"
            :entry="entry"
            :over="over"
            @entry="(value) => (entry = value)"
            @update:model-value="(value) => set('fallback', value || undefined)"
          />
        </template>
      </template>
    </div>
  </section>
</template>

<style scoped>
.rule h2 {
  overflow-wrap: anywhere;
}
.switches {
  margin-top: 10px;
}
.switches label {
  display: flex;
  gap: 6px;
  align-items: center;
}
.prefer {
  display: block;
  margin-top: 10px;
}
.grant {
  margin-bottom: 6px;
  flex-wrap: nowrap;
}
.wide {
  flex: 1;
}
h3 {
  font-size: 13px;
  margin: 12px 0 6px;
}
p {
  margin: 4px 0 8px;
}
</style>
