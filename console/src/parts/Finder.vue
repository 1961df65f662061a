<script setup lang="ts">
// Finds everything from every page, also the pages and what can be done on each: a field with a
// list beneath, by the combobox pattern of WAI-ARIA. The slash key leads here, and Ctrl K.
import { computed, onMounted, onUnmounted, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap } from '../api/client'
import { t } from '../state/language'
import { finds, offered, type Act, type Find } from './finds'
import { type Page } from './pages'
import Tag from './Tag.vue'
import { typesInto } from './typing'
import { useLoad } from './use-load'
import { useTyped } from './use-typed'

const props = defineProps<{ pages: Page[]; acts: Act[] }>()
const router = useRouter()
const text = ref('')
const typed = useTyped(text)
const field = ref<HTMLInputElement | null>(null)
const open = ref(false)
const at = ref(0)

const { data, failure, loading } = useLoad(async () => {
  const wanted = text.value.trim()
  if (!wanted) return null
  return finds(await unwrap(api.GET('/api/v1/search', { params: { query: { text: wanted } } })), wanted)
}, [text])
// Pages and acts are known here; what the service found for another text is not what was asked.
const list = computed(() => [
  ...offered(typed.value.trim(), props.pages, props.acts),
  ...(typed.value.trim() === text.value.trim() && !loading.value ? (data.value ?? []) : []),
])
const said = computed(() => {
  if (!typed.value.trim()) return ''
  if (failure.value) return failure.value.message
  if (loading.value || typed.value.trim() !== text.value.trim()) return t('Looking…')
  return list.value.length ? '' : t('Nothing is called so, or has this number.')
})
watch(typed, () => (at.value = 0))
watch(at, (now) => document.getElementById('find-' + now)?.scrollIntoView({ block: 'nearest' }))

function close(): void {
  open.value = false
  typed.value = text.value = ''
  field.value?.blur()
}
async function go(find: Find | undefined): Promise<void> {
  if (!find) return
  close()
  if (find.act) await find.act()
  else if (find.to) await router.push(find.to)
}
function step(by: number): void {
  open.value = true
  if (list.value.length) at.value = (at.value + by + list.value.length) % list.value.length
}
function slash(event: KeyboardEvent): void {
  const k = event.key === 'k' && (event.ctrlKey || event.metaKey) && !event.altKey
  if (!k && (event.key !== '/' || typesInto(event))) return
  event.preventDefault()
  field.value?.focus()
}
onMounted(() => document.addEventListener('keydown', slash))
onUnmounted(() => document.removeEventListener('keydown', slash))
</script>

<template>
  <div class="finder" role="search">
    <input
      ref="field"
      v-model="typed"
      type="text"
      role="combobox"
      aria-label="Find anything"
      aria-autocomplete="list"
      aria-controls="finds"
      :aria-expanded="open"
      :aria-activedescendant="open && list.length ? 'find-' + at : undefined"
      placeholder="Find anything   /"
      autocomplete="off"
      spellcheck="false"
      @focus="open = true"
      @blur="open = false"
      @input="open = true"
      @keydown.down.prevent="step(1)"
      @keydown.up.prevent="step(-1)"
      @keydown.enter.prevent="go(list[at])"
      @keydown.esc="close"
    />
    <div v-show="open" class="found">
      <ul id="finds" role="listbox" aria-label="Found">
        <li
          v-for="(find, i) in list"
          :id="'find-' + i"
          :key="find.key"
          role="option"
          :aria-selected="i === at"
          @mousedown.prevent="go(find)"
          @mousemove="at = i"
        >
          <span class="name">{{ find.name }}</span>
          <span class="more">{{ find.more }}</span>
          <Tag v-if="find.state" v-bind="find.state" />
          <span class="sort">{{ find.sort }}</span>
        </li>
      </ul>
      <p v-if="said" role="status">{{ said }}</p>
    </div>
  </div>
</template>

<style scoped>
.finder {
  position: relative;
  flex: 0 1 340px;
  margin-left: auto;
}
input {
  width: 100%;
  box-sizing: border-box;
  height: 28px;
  padding: 0 9px;
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--field);
  color: inherit;
  font: inherit;
}
input:focus-visible {
  outline: 2px solid var(--accent);
  outline-offset: -1px;
}
.found {
  position: absolute;
  z-index: 20;
  right: 0;
  top: 32px;
  width: min(680px, 70vw);
  background: var(--sheet-raised);
  border: 1px solid var(--line);
  border-radius: 5px;
  box-shadow: 0 6px 18px var(--line);
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
  max-height: 70vh;
  overflow: auto;
}
li {
  display: grid;
  grid-template-columns: minmax(0, auto) minmax(0, 1fr) auto auto;
  gap: 10px;
  align-items: baseline;
  padding: 5px 11px;
  cursor: pointer;
}
li[aria-selected='true'] {
  background: var(--sheet-hover);
  box-shadow: inset 3px 0 var(--brass);
}
.name {
  font-weight: 550;
}
.name,
.more {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.more,
.sort,
p {
  color: var(--ink-3);
}
.sort {
  grid-column: 4;
  min-width: 62px;
  text-align: right;
  font-size: 12.5px;
}
p {
  margin: 0;
  padding: 8px 11px;
}
</style>
