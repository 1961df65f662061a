<script setup lang="ts">
// Who takes part: containers, filters, group limits, with live counts.
import { NButton, NInput, NSelect, NSkeleton, NSwitch } from 'naive-ui'
import { computed, onMounted } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Tabs from '../parts/Tabs.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { when } from '../parts/words'
import ContainerTree from '../setup/ContainerTree.vue'
import DraftBar from '../setup/DraftBar.vue'
import FilterEditor from '../setup/FilterEditor.vue'
import Impact from '../setup/Impact.vue'
import type { Containers } from '../setup/containers'
import { useDraft } from '../state/draft'
import { language, t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'
import { useScopeCounts } from './use-scope-counts'

const draft = useDraft()
const session = useSession()
const router = useRouter()
const name = useQuery<string>('directory', '')
const kind = useQuery<'users' | 'groups' | 'contacts'>('kind', 'users')
const may = computed(() => session.may('administrator'))
const directories = computed(() => draft.document?.directories ?? [])
const directory = computed(() => directories.value.find((d) => d.name === name.value) ?? directories.value[0])
onMounted(draft.load)

const tree = useLoad(
  async () =>
    directory.value
      ? await unwrap(
          api.GET('/api/v1/directories/{name}/containers', { params: { path: { name: directory.value.name } } }),
        )
      : null,
  [() => directory.value?.name, () => draft.saved?.version],
)
useLive().listen((event) => {
  if (event.kind === 'run') void tree.again()
})

const containers = computed<Containers>({
  get: () => directory.value?.containers ?? { include: [], exclude: [] },
  set: (value) => {
    if (directory.value) directory.value.containers = value
  },
})

type Selection = { off?: boolean; filter?: string; membersOf?: Schemas['GroupLimit'] }
const selection = computed<Selection>(() => {
  const document = draft.document
  if (!document) return {}
  if (kind.value === 'users') return document.users
  if (!document[kind.value]) document[kind.value] = {}
  return document[kind.value] as Selection
})
const filter = computed({
  get: () => selection.value.filter ?? '',
  set: (value: string) => (selection.value.filter = value || undefined),
})
const limit = computed({
  get: () => (selection.value.membersOf?.groups ?? []).join('\n'),
  set: (value: string) => {
    const groups = value
      .split('\n')
      .map((line) => line.trim())
      .filter(Boolean)
    selection.value.membersOf = groups.length ? { groups, nested: selection.value.membersOf?.nested } : undefined
  },
})

const { counts, counting, failed, search, open } = useScopeCounts()

const { busy: reading, act } = useAct()
async function read(): Promise<void> {
  const run = await act(async () => {
    if (draft.edited) await draft.save()
    return await unwrap(api.POST('/api/v1/settings/draft/read'))
  })
  if (run) await router.push({ name: 'run', params: { id: run.id } })
}
const plural: Record<string, string> = { user: t('users'), group: t('groups'), contact: t('contacts') }
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Scope</h1>
      <span class="quiet"
        >Who takes part: a container, the filter of the kind and its group limit must all let an entry in.</span
      >
    </div>
    <Fault v-if="draft.failure" :failure="draft.failure" @again="draft.load" />
    <NSkeleton v-else-if="!draft.document" text :repeat="6" />
    <section v-else-if="!directories.length" class="sheet empty">
      <p>No directory is connected yet, so there is nothing to choose from.</p>
      <RouterLink :to="{ name: 'directories' }">Connect a directory</RouterLink>
    </section>
    <template v-else>
      <DraftBar />
      <div class="columns">
        <div class="left">
          <section class="sheet">
            <header>
              <h2>Containers</h2>
              <NSelect
                v-if="directories.length > 1"
                size="small"
                style="width: 160px"
                :value="directory?.name"
                :options="directories.map((d) => ({ label: d.name, value: d.name }))"
                aria-label="Directory"
                @update:value="(value: string) => (name = value)"
              />
              <span v-else class="quiet">{{ directory?.name }}</span>
              <span class="quiet">{{ tree.data.value?.read ? t('as read {0}', when(tree.data.value.read)) : '' }}</span>
              <NButton v-if="session.may('operator')" size="small" :loading="reading" @click="read">Read now</NButton>
            </header>
            <div class="body">
              <Fault v-if="tree.failure.value" :failure="tree.failure.value" @again="tree.again" />
              <p v-else-if="tree.data.value && !tree.data.value.read" class="quiet">
                This directory was not read yet. Connect an agent and probe it on the page of the directory, then read
                it: its containers appear here.
              </p>
              <ContainerTree
                v-else-if="tree.data.value"
                v-model="containers"
                :tree="tree.data.value"
                :disabled="!may"
              />
              <NSkeleton v-else text :repeat="5" />
            </div>
          </section>
          <section class="sheet">
            <header><h2>Filter and group limit</h2></header>
            <div class="body">
              <Tabs
                v-model="kind"
                label="Kind"
                :choices="[
                  { value: 'users', text: t('Users') },
                  { value: 'groups', text: t('Groups') },
                  { value: 'contacts', text: t('Contacts') },
                ]"
              />
              <label class="row take"
                ><NSwitch
                  :aria-label="
                    t('{0} take part', kind === 'users' ? t('Users') : kind === 'groups' ? t('Groups') : t('Contacts'))
                  "
                  size="small"
                  :value="!selection.off"
                  :disabled="!may"
                  @update:value="(on: boolean) => (selection.off = on ? undefined : true)"
                />{{ kind === 'users' ? t('Users') : kind === 'groups' ? t('Groups') : t('Contacts') }} take part</label
              >
              <FilterEditor :key="kind" v-model="filter" :kind="kind" :disabled="!may || selection.off" />
              <h3>Only members of these groups</h3>
              <NInput
                v-model:value="limit"
                type="textarea"
                :autosize="{ minRows: 1, maxRows: 6 }"
                class="mono"
                :disabled="!may || selection.off"
                placeholder="No limit. For a pilot: the distinguished name of a group, one on each line"
                :input-props="{ 'aria-label': t('Groups that limit who takes part, one name on each line') }"
              />
              <label v-if="limit" class="row take"
                ><NSwitch
                  aria-label="Members of groups within them, too"
                  size="small"
                  :value="Boolean(selection.membersOf?.nested)"
                  :disabled="!may"
                  @update:value="(on: boolean) => selection.membersOf && (selection.membersOf.nested = on)"
                />Members of groups within them, too</label
              >
            </div>
          </section>
        </div>
        <div class="right">
          <section class="sheet" aria-label="Who takes part">
            <header>
              <h2>Takes part</h2>
              <span v-if="counting" class="quiet counting" role="status">counting…</span
              ><NInput
                v-model:value="search"
                size="small"
                clearable
                placeholder="Find a name"
                style="width: 150px"
                :input-props="{ 'aria-label': t('Look for a name'), type: 'search' }"
              />
            </header>
            <div class="body">
              <p v-if="failed" class="bad" role="alert">{{ failed.message }}</p>
              <p v-if="counts?.missing.length" class="warn" role="alert">
                Not read yet: {{ counts.missing.join(', ') }}. The counts are wrong until the directories are read
                again.
              </p>
              <p v-for="gone in counts?.vanished ?? []" :key="gone.dn" class="bad" role="alert">
                Vanished: {{ gone.text }}.
              </p>
              <div v-for="one in counts?.kinds ?? []" :key="one.kind" class="kind">
                <div class="row">
                  <strong class="big">{{ one.lookedAt ? '≈ ' : '' }}{{ one.in.toLocaleString(language) }}</strong
                  ><span>of {{ one.total.toLocaleString(language) }} {{ plural[one.kind] }}</span>
                </div>
                <p v-if="one.lookedAt" class="quiet">
                  Estimated from {{ one.lookedAt.toLocaleString(language) }} of them; who is rare may be missing.
                </p>
                <template v-for="verdict in one.verdicts" :key="verdict.code">
                  <button
                    type="button"
                    class="verdict"
                    :aria-expanded="open === one.kind + verdict.code"
                    @click="open = open === one.kind + verdict.code ? '' : one.kind + verdict.code"
                  >
                    <span>{{ verdict.title }}</span><span
                      >{{ one.lookedAt ? '≈ ' : '' }}{{ verdict.count.toLocaleString(language) }}</span
                    >
                  </button>
                  <ul v-if="open === one.kind + verdict.code" class="samples">
                    <li v-for="sample in verdict.samples" :key="sample.entryId">
                      <RouterLink :to="{ name: 'object', params: { id: sample.entryId } }">{{
                        sample.name
                      }}</RouterLink><Dn :dn="sample.dn" class="quiet" />
                      <div v-if="verdict.code !== 'included'" class="quiet">{{ sample.summary }}</div>
                    </li>
                    <li v-if="!verdict.samples.length" class="quiet">Nobody of this name.</li>
                    <li v-else-if="verdict.count > verdict.samples.length" class="quiet">and more: look for a name</li>
                  </ul>
                </template>
              </div>
            </div>
          </section>
          <Impact />
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.counting,
.right h2 {
  white-space: nowrap;
}
.take {
  margin: 8px 0 10px;
}
h3 {
  font-size: 13px;
  margin: 14px 0 6px;
}
.kind + .kind {
  border-top: 1px solid var(--line);
  margin-top: 8px;
  padding-top: 8px;
}
.big {
  font-size: 20px;
}
.verdict {
  display: flex;
  justify-content: space-between;
  width: 100%;
  background: none;
  border: 0;
  font: inherit;
  color: var(--ink-2);
  padding: 2px 0;
  cursor: pointer;
  text-align: left;
  gap: 8px;
}
.verdict:hover {
  color: var(--accent);
}
.samples {
  margin: 2px 0 8px;
  padding-left: 12px;
  list-style: none;
  border-left: 3px solid var(--line);
  font-size: 12.5px;
}
.samples li {
  padding: 2px 0;
  overflow-wrap: anywhere;
}
p {
  margin: 0 0 8px;
}
.empty {
  padding: 18px;
  max-width: 640px;
}
</style>
