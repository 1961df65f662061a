<script setup lang="ts">
// The settings as one document: the draft and what it changes, the text, the
// history.
import { NButton, NInput, NSelect, NSkeleton, useMessage } from 'naive-ui'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'

import { api, Refusal, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tabs from '../parts/Tabs.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { show, when } from '../parts/words'
import CloudHabits from '../setup/CloudHabits.vue'
import DraftBar from '../setup/DraftBar.vue'
import Expectations from '../setup/Expectations.vue'
import Impact from '../setup/Impact.vue'
import Limits from '../setup/Limits.vue'
import Schedule from '../setup/Schedule.vue'
import { useDraft } from '../state/draft'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const draft = useDraft()
const session = useSession()
const message = useMessage()
const view = useQuery<'changes' | 'expectations' | 'schedule' | 'limits' | 'cloud' | 'text' | 'history'>(
  'view',
  'changes',
)
const from = useQuery<string>('from', '')
const to = useQuery<string>('to', '')
onMounted(draft.load)

const history = useLoad(() => unwrap(api.GET('/api/v1/settings/revisions', { params: { query: { limit: 200 } } })), [])
useLive().listen((event) => event.kind === 'settings' && void history.again())

// The text is edited apart from the document, since it may be no YAML while it
// is typed.
const text = ref('')
const refused = ref('')
const checked = shallowRef<Schemas['Fault'][]>([])
const saving = ref(false)
const textEdited = computed(() => text.value !== (draft.saved?.yaml ?? ''))
watch(
  () => draft.saved?.yaml,
  (yaml, before) => {
    if (text.value === (before ?? '') || text.value === '') text.value = yaml ?? ''
  },
  { immediate: true },
)
let timer = 0
watch(text, () => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => void check(), 500)
})
async function check(): Promise<void> {
  if (!text.value) return
  try {
    checked.value = (await unwrap(api.POST('/api/v1/settings/check', { body: { yaml: text.value } }))).faults
  } catch {
    checked.value = []
  }
}
async function saveText(): Promise<void> {
  saving.value = true
  refused.value = ''
  try {
    draft.take(
      await unwrap(
        api.PUT('/api/v1/settings/draft', { body: { version: draft.saved?.version ?? 0, yaml: text.value } }),
      ),
    )
    text.value = draft.saved?.yaml ?? ''
    message.success(t('The draft is saved. Nothing was changed in the cloud.'))
  } catch (e) {
    refused.value = e instanceof Refusal ? e.message : String(e)
  } finally {
    saving.value = false
  }
}
async function load(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) text.value = await file.text()
}
function save(): void {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text.value], { type: 'application/yaml' }))
  link.download = 'settings.yaml'
  link.click()
  URL.revokeObjectURL(link.href)
}

const comparison = useLoad(
  async () =>
    from.value && to.value
      ? await unwrap(api.GET('/api/v1/settings/diff', { params: { query: { from: from.value, to: to.value } } }))
      : null,
  [from, to, () => draft.saved?.version],
)
const choices = computed(() => [
  ...(draft.saved?.version ? [{ label: t('the draft'), value: 'draft' }] : []),
  ...(history.data.value?.items ?? []).map((r) => ({
    label: t('revision {0}', r.revision),
    value: String(r.revision),
  })),
])
async function returnTo(revision: number): Promise<void> {
  try {
    draft.take(
      await unwrap(
        api.POST('/api/v1/settings/revisions/{revision}/draft', {
          params: { path: { revision } },
          body: { version: draft.saved?.version ?? 0 },
        }),
      ),
    )
    view.value = 'changes'
    message.success(t('The draft is what revision {0} was. Activate it to go back.', revision))
  } catch (e) {
    message.error((e as Error).message)
  }
}
const line = (fault: Schemas['Fault']) => fault.fileLine || fault.line
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Settings</h1>
      <span class="quiet"
        >One document. Edits live in the draft; every activation is a revision that can be compared and returned
        to.</span
      >
    </div>
    <Fault v-if="draft.failure" :failure="draft.failure" @again="draft.load" />
    <NSkeleton v-else-if="!draft.saved" text :repeat="6" />
    <template v-else>
      <DraftBar />
      <div class="columns">
        <section class="sheet main">
          <Tabs
            v-model="view"
            class="tabs"
            label="View"
            :choices="[
              { value: 'changes', text: t('Changes') },
              { value: 'expectations', text: t('Expectations') },
              { value: 'schedule', text: t('Schedule') },
              { value: 'limits', text: t('Guard and leavers') },
              { value: 'cloud', text: t('Cloud') },
              { value: 'text', text: t('Text') },
              { value: 'history', text: t('History') },
            ]"
          />
          <div class="body">
            <template v-if="view === 'changes'">
              <p v-if="!draft.saved.version" class="quiet">
                There is no draft. Edit the <RouterLink :to="{ name: 'scope' }">scope</RouterLink> or the text, or
                return to an earlier revision.
              </p>
              <p v-else-if="!draft.saved.differences.length" class="quiet">
                The draft says the same as the active settings.
              </p>
              <table v-else class="diffs">
                <thead>
                  <tr>
                    <th>Where</th>
                    <td>Active</td>
                    <td>Draft</td>
                  </tr>
                </thead>
                <tbody>
                  <tr v-for="d in draft.saved.differences" :key="d.path">
                    <th scope="row" class="mono">{{ d.path }}</th>
                    <td :class="{ taken: d.before !== null }">{{ show(d.before) }}</td>
                    <td :class="{ added: d.after !== null }">{{ show(d.after) }}</td>
                  </tr>
                </tbody>
              </table>
            </template>
            <Expectations v-else-if="view === 'expectations'" />
            <Schedule v-else-if="view === 'schedule'" />
            <Limits v-else-if="view === 'limits'" />
            <CloudHabits v-else-if="view === 'cloud'" />
            <template v-else-if="view === 'text'">
              <div class="row tools">
                <label class="file"
                  >Open a file… <input type="file" accept=".yaml,.yml,text/yaml" @change="load"
                /></label>
                <NButton size="small" @click="save">Save as a file</NButton>
                <span class="push" />
                <NButton v-if="textEdited" size="small" @click="text = draft.saved?.yaml ?? ''">Undo edits</NButton>
                <NButton
                  v-if="session.may('administrator')"
                  size="small"
                  type="primary"
                  :disabled="!textEdited || draft.edited"
                  :loading="saving"
                  @click="saveText"
                  >Save draft</NButton
                >
              </div>
              <p v-if="draft.edited" class="warn">
                There are edits of the scope that are not saved: save or undo them first.
              </p>
              <p v-if="refused" class="bad refused" role="alert">{{ refused }}</p>
              <ul v-if="checked.length" class="bad checked" role="status">
                <li v-for="fault in checked" :key="fault.path + fault.message">
                  <strong v-if="line(fault)">line {{ line(fault) }}</strong> <span class="mono">{{ fault.path }}</span>
                  {{ fault.message }}
                </li>
              </ul>
              <NInput
                v-model:value="text"
                type="textarea"
                :autosize="{ minRows: 24, maxRows: 40 }"
                class="mono"
                :disabled="!session.may('administrator')"
                :input-props="{ 'aria-label': t('Settings as YAML'), spellcheck: false }"
              />
            </template>
            <template v-else>
              <Fault v-if="history.failure.value" :failure="history.failure.value" @again="history.again" />
              <p v-else-if="!history.data.value?.items.length" class="quiet">Nothing was activated yet.</p>
              <template v-else>
                <div class="row tools">
                  Compare
                  <NSelect
                    size="small"
                    style="width: 150px"
                    :value="from || null"
                    :options="choices"
                    placeholder="from"
                    aria-label="From"
                    @update:value="(v: string) => (from = v)"
                  />
                  with
                  <NSelect
                    size="small"
                    style="width: 150px"
                    :value="to || null"
                    :options="choices"
                    placeholder="to"
                    aria-label="To"
                    @update:value="(v: string) => (to = v)"
                  />
                </div>
                <p v-if="comparison.failure.value" class="bad">{{ comparison.failure.value.message }}</p>
                <p v-else-if="comparison.data.value && !comparison.data.value.differences.length" class="quiet">
                  No difference.
                </p>
                <table v-else-if="comparison.data.value" class="diffs">
                  <tbody>
                    <tr v-for="d in comparison.data.value.differences" :key="d.path">
                      <th scope="row" class="mono">{{ d.path }}</th>
                      <td :class="{ taken: d.before !== null }">{{ show(d.before) }}</td>
                      <td :class="{ added: d.after !== null }">{{ show(d.after) }}</td>
                    </tr>
                  </tbody>
                </table>
                <table class="list">
                  <thead>
                    <tr>
                      <th>Revision</th>
                      <th>Activated</th>
                      <th>By</th>
                      <th>Why</th>
                      <th><span class="visually-hidden">Acts</span></th>
                    </tr>
                  </thead>
                  <tbody>
                    <tr v-for="r in history.data.value.items" :key="r.revision">
                      <td>
                        <strong>{{ r.revision }}</strong>{{ r.revision === draft.saved.active ? t(', active') : '' }}
                      </td>
                      <td>{{ when(r.activated) }}</td>
                      <td>{{ r.by }}</td>
                      <td>{{ r.note }}</td>
                      <td>
                        <NButton
                          v-if="session.may('administrator') && r.revision !== draft.saved.active"
                          size="tiny"
                          @click="returnTo(r.revision)"
                          >Return to it</NButton
                        >
                      </td>
                    </tr>
                  </tbody>
                </table>
              </template>
            </template>
          </div>
        </section>
        <Impact />
      </div>
    </template>
  </div>
</template>

<style scoped>
.tabs {
  padding: 4px 14px 0;
}
.refused {
  white-space: pre-wrap;
}
.checked {
  margin: 0 0 8px;
  padding-left: 18px;
}
.file {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 3px 10px;
  cursor: pointer;
  font-size: 13px;
}
.diffs {
  width: 100%;
  table-layout: fixed;
  border-collapse: collapse;
  margin-bottom: 14px;
}
.diffs th {
  text-align: left;
  font-weight: 400;
  overflow-wrap: anywhere;
  width: 40%;
}
.diffs th,
.diffs td {
  padding: 4px 8px;
  border-bottom: 1px solid var(--line);
  vertical-align: top;
  overflow-wrap: anywhere;
}
.diffs thead > tr > * {
  color: var(--ink-3);
  font-size: 12.5px;
}
.taken {
  background: var(--taken);
}
.added {
  background: var(--added);
}
</style>
