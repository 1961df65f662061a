<script setup lang="ts">
// A formula as it is written: completed, faults at their character, and tried
// on an entry or on typed values, with the value of every part.
import { autocompletion, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands'
import { bracketMatching, HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { setDiagnostics } from '@codemirror/lint'
import { EditorState } from '@codemirror/state'
import { EditorView, keymap } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { NInput } from 'naive-ui'
import { onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Reasons from '../parts/Reasons.vue'
import { t } from '../state/language'
import { cel, complete, place } from './formula'

const text = defineModel<string>({ required: true })
const props = defineProps<{
  label: string
  disabled?: boolean
  attributes: string[]
  functions: Schemas['FormulaFunction'][]
  entry: string
  /** What the formula reads: an entry, or a group of the cloud. */
  over?: 'entry' | 'resource'
}>()
const emit = defineEmits<{ entry: [string] }>()

const host = ref<HTMLElement | null>(null)
const tried = shallowRef<Schemas['TriedFormula'] | null>(null)
const failed = ref('')
const typed = ref('')
let view: EditorView | null = null
let timer = 0
let turn = 0

// The typed values, one on each line as attribute=value; without an entry and
// without them a formula is only checked.
function values(): Record<string, string[]> {
  const out: Record<string, string[]> = {}
  for (const line of typed.value.split('\n')) {
    const at = line.indexOf('=')
    if (at > 0) (out[line.slice(0, at).trim()] ??= []).push(line.slice(at + 1))
  }
  return out
}

async function attempt(): Promise<void> {
  const mine = ++turn
  if (!text.value.trim()) {
    tried.value = null
    return
  }
  try {
    const answer = await unwrap(
      api.POST('/api/v1/formulas/try', {
        body: {
          formula: text.value,
          entry: props.entry || undefined,
          attributes: values(),
          over: props.over ?? 'entry',
        },
      }),
    )
    if (mine !== turn) return
    tried.value = answer
    failed.value = ''
    mark()
  } catch (e) {
    if (mine === turn) failed.value = (e as Error).message
  }
}

function mark(): void {
  if (!view) return
  const length = view.state.doc.length
  const faults = (tried.value?.faults ?? []).map((fault) => {
    const from = Math.min(place(text.value, fault.line ?? 1, fault.column ?? 1), length)
    return { from, to: Math.min(from + 1, length), severity: 'error' as const, message: fault.message }
  })
  view.dispatch(setDiagnostics(view.state, faults))
}

function soon(): void {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => void attempt(), 250)
}

const look = HighlightStyle.define([
  { tag: tags.string, color: 'var(--good)' },
  { tag: tags.number, color: 'var(--warn)' },
  { tag: tags.keyword, color: 'var(--accent)', fontWeight: '600' },
  { tag: tags.function(tags.variableName), color: 'var(--accent)' },
  { tag: tags.operator, color: 'var(--ink-3)' },
])

onMounted(() => {
  view = new EditorView({
    parent: host.value ?? undefined,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        history(),
        bracketMatching(),
        cel,
        syntaxHighlighting(look),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ 'aria-label': props.label, spellcheck: 'false' }),
        EditorView.editable.of(!props.disabled),
        autocompletion({ override: [(context) => complete(props.functions, props.attributes)(context)] }),
        keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap]), // Tab leaves the field, as everywhere
        EditorView.updateListener.of((update) => {
          if (update.docChanged) text.value = update.state.doc.toString()
        }),
      ],
    }),
  })
  void attempt()
})
onBeforeUnmount(() => {
  window.clearTimeout(timer)
  view?.destroy()
})
watch(text, (now) => {
  if (view && now !== view.state.doc.toString())
    view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: now } })
  soon()
})
watch([typed, () => props.entry], soon)
</script>

<template>
  <div>
    <div ref="host" class="editor" :class="{ wrong: tried?.faults.length }" />
    <p
      v-for="fault in tried?.faults ?? []"
      :key="`${fault.line}.${fault.column}.${fault.message}`"
      class="bad"
      role="alert"
    >
      Line {{ fault.line }}, character {{ fault.column }}: {{ fault.message }}
    </p>
    <div class="try">
      <label
        >Try it on<NInput
          :value="entry"
          size="small"
          clearable
          placeholder="an entry: login, address, name or id"
          :input-props="{ 'aria-label': t('Entry to try the formula on') }"
          @update:value="(value: string) => emit('entry', value)"
      /></label>
      <label v-if="!entry"
        >or on typed values<NInput
          v-model:value="typed"
          type="textarea"
          size="small"
          class="mono"
          :autosize="{ minRows: 1, maxRows: 5 }"
          placeholder="givenName=Ada"
          :input-props="{ 'aria-label': t('Typed values, one on each line as attribute=value') }"
      /></label>
    </div>
    <p v-if="failed" class="bad" role="alert">{{ failed }}</p>
    <div v-else-if="tried && !tried.faults.length && (entry || typed)" class="gives" role="status">
      <p v-if="tried.error" class="bad">Fails here: {{ tried.error }}</p>
      <p v-else>
        Gives <strong class="mono">{{ tried.value }}</strong>
        <span v-if="tried.dn" class="quiet">{{ t(' on {0}', tried.dn) }}</span>
      </p>
      <Reasons v-if="tried.parts.length" :nodes="tried.parts" />
    </div>
  </div>
</template>

<style scoped>
.editor {
  border: 1px solid var(--line);
  border-radius: 4px;
  background: var(--sheet);
  font-size: 13px;
}
.editor:focus-within {
  border-color: var(--accent);
}
.editor.wrong {
  border-color: var(--bad);
}
.editor :deep(.cm-editor) {
  outline: none;
  color: var(--ink);
}
.editor :deep(.cm-content) {
  font-family: var(--mono);
  padding: 6px 2px;
  caret-color: var(--ink);
}
.editor :deep(.cm-cursor) {
  border-left-color: var(--ink);
}
.editor :deep(.cm-tooltip) {
  background: var(--sheet);
  color: var(--ink);
  border: 1px solid var(--line);
}
.editor :deep(.cm-tooltip-autocomplete li[aria-selected]) {
  background: var(--accent);
  color: var(--sheet);
}
.try {
  display: flex;
  gap: 12px;
  margin-top: 8px;
}
.try label {
  flex: 1;
  color: var(--ink-3);
  font-size: 12.5px;
}
.gives {
  margin-top: 8px;
  border-left: 3px solid var(--brass);
  padding-left: 10px;
  overflow-wrap: anywhere;
}
p {
  margin: 4px 0;
}
</style>
