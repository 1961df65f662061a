<script setup lang="ts">
// How groups of the cloud are kept in a directory, in the draft: where, which, what they
// are there, and the rules for their attributes.
import { NButton, NInput, NInputNumber, NPopconfirm, NSelect, NSkeleton, NSwitch } from 'naive-ui'
import { computed, onMounted, ref } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import { useLoad } from '../parts/use-load'
import { count } from '../parts/words'
import { useDraft } from '../state/draft'
import { t } from '../state/language'
import { useSession } from '../state/session'
import DraftBar from './DraftBar.vue'
import Impact from './Impact.vue'
import RuleEditor from './RuleEditor.vue'
import { inWords, type Rule } from './rules'

type Kept = Schemas['CloudGroups']

const directory = defineModel<string>('directory', { required: true })
const draft = useDraft()
const session = useSession()
const locked = computed(() => !session.may('administrator'))
onMounted(draft.load)

const functions = useLoad(() => unwrap(api.GET('/api/v1/formulas/functions')), [])
const defaults = useLoad(() => unwrap(api.GET('/api/v1/cloud-groups/defaults')), [])
const all = useLoad(
  () => unwrap(api.GET('/api/v1/objects', { params: { query: { kind: 'group', limit: 500, text: '' } } })),
  [],
)
const groups = computed(() =>
  (all.data.value?.items ?? [])
    .filter((g) => g.resourceId && (!g.entryId || g.state === 'cloud-only'))
    .map((g) => ({ label: g.name, value: g.resourceId ?? '' })),
)
const named = (ids: string[] | undefined) => [
  ...groups.value,
  ...(ids ?? []).filter((id) => !groups.value.some((g) => g.value === id)).map((id) => ({ label: id, value: id })),
]

const directories = computed(() => draft.document?.directories ?? [])
const here = computed(() => directories.value.find((d) => d.name === directory.value) ?? directories.value[0])
const ad = computed(() => here.value?.dialect === 'ad')
const usual = computed<Kept | undefined>(() => defaults.data.value?.[ad.value ? 'ad' : 'standard'])
const kept = computed<Partial<Kept>>(() => here.value?.cloudGroups ?? {})
const on = computed(() => Boolean(here.value?.features?.includes('cloud-groups')))

function change(part: Partial<Kept>): void {
  const d = here.value
  if (!d) return
  const next = { ...(d.cloudGroups ?? { container: '' }), ...part } as Record<string, unknown>
  for (const name of Object.keys(next)) {
    const value = next[name]
    if (
      name !== 'container' &&
      (value === undefined || value === '' || value === false || (Array.isArray(value) && !value.length))
    )
      delete next[name]
  }
  d.cloudGroups = next as unknown as Kept
}
function turn(to: boolean): void {
  const d = here.value
  if (!d) return
  d.features = [...(d.features ?? []).filter((f) => f !== 'cloud-groups'), ...(to ? (['cloud-groups'] as const) : [])]
  if (to && !d.cloudGroups) change({ container: '' })
}

type Which = 'all' | 'only' | 'none'
const which = computed<Which>(() => (kept.value.none ? 'none' : kept.value.only ? 'only' : 'all'))
function choose(value: Which): void {
  change({ none: value === 'none', only: value === 'only' ? (kept.value.only ?? []) : undefined })
  if (value === 'only' && here.value?.cloudGroups && !here.value.cloudGroups.only) here.value.cloudGroups.only = []
}

const rules = computed<Rule[]>(() => (kept.value.rules?.length ? kept.value.rules : (usual.value?.rules ?? [])))
const chosen = ref('cn')
const rule = computed(() => rules.value.find((r) => r.target === chosen.value))
const usualRule = computed(() => usual.value?.rules?.find((r) => r.target === chosen.value))
function setRule(next: Rule): void {
  change({ rules: rules.value.map((r) => (r.target === chosen.value ? next : { ...r })) })
}
function dropRule(): void {
  change({ rules: rules.value.filter((r) => r.target !== chosen.value).map((r) => ({ ...r })) })
  chosen.value = 'cn'
}
const another = ref('')
function addRule(): void {
  const target = another.value.trim()
  if (!target) return
  if (!rules.value.some((r) => r.target.toLowerCase() === target.toLowerCase()))
    change({ rules: [...rules.value.map((r) => ({ ...r })), { target, from: 'displayName' }] })
  chosen.value = target
  another.value = ''
}
const faults = computed(() => {
  const at = directories.value.findIndex((d) => d.name === here.value?.name)
  return (draft.saved?.faults ?? []).filter((f) => f.path?.startsWith(`directories[${at}].cloudGroups`))
})
const groupAttributes = ['displayName', 'externalId', 'id', 'meta.created', 'meta.lastModified']
</script>

<template>
  <div class="keeping">
    <Fault v-if="draft.failure" :failure="draft.failure" @again="draft.load" />
    <NSkeleton v-else-if="!draft.document || !defaults.data.value" text :repeat="6" />
    <section v-else-if="!here" class="sheet empty">
      <p>No directory is connected yet.</p>
      <RouterLink :to="{ name: 'directories' }">Connect a directory</RouterLink>
    </section>
    <template v-else>
      <DraftBar />
      <div class="row head">
        <NSelect
          :value="here.name"
          :options="directories.map((d) => ({ label: d.name, value: d.name }))"
          size="small"
          style="width: 180px"
          aria-label="Directory"
          @update:value="(name: string) => (directory = name)"
        />
        <label class="row"
          ><NSwitch
            aria-label="Keep groups of the cloud in this directory"
            :value="on"
            :disabled="locked"
            size="small"
            @update:value="turn"
          />Keep groups of the cloud in this directory</label
        >
        <span v-if="!on && here.cloudGroups" class="quiet"
          >Off: groups that are there stay as they are, and nobody looks after them.</span
        >
      </div>
      <p v-for="fault in faults" :key="fault.path + fault.message" class="bad" role="alert">{{ fault.message }}</p>
      <div v-if="on" class="columns">
        <section class="sheet form" aria-label="Where and which">
          <h2>Where and which</h2>
          <label
            >Container<NInput
              :value="kept.container ?? ''"
              size="small"
              :disabled="locked"
              :placeholder="`OU=Cloud Groups,${here.base}`"
              :input-props="{ 'aria-label': t('Container') }"
              @update:value="(container: string) => change({ container })"
          /></label>
          <label
            >Groups<NSelect
              :value="which"
              size="small"
              :disabled="locked"
              aria-label="Which groups"
              :options="[
                { label: t('All that no directory owns'), value: 'all' },
                { label: t('Only those that are chosen'), value: 'only' },
                { label: t('None yet: try one first'), value: 'none' },
              ]"
              @update:value="choose"
          /></label>
          <label v-if="which === 'only'"
            >Chosen<NSelect
              :value="kept.only ?? []"
              :options="named(kept.only)"
              multiple
              filterable
              tag
              size="small"
              :disabled="locked"
              aria-label="Chosen groups"
              @update:value="(only: string[]) => change({ only })"
          /></label>
          <label
            >Except<NSelect
              :value="kept.except ?? []"
              :options="named(kept.except)"
              multiple
              filterable
              tag
              size="small"
              placeholder="nobody"
              :disabled="locked"
              aria-label="Excepted groups"
              @update:value="(except: string[]) => change({ except })"
          /></label>
          <label
            >Filter (SCIM)<NInput
              :value="kept.filter ?? ''"
              size="small"
              :disabled="locked"
              placeholder="as in displayName sw …"
              :input-props="{ 'aria-label': t('Filter of RFC 7644') }"
              @update:value="(filter: string) => change({ filter })"
          /></label>
          <h2>What they are there</h2>
          <template v-if="ad">
            <label
              >Type<NSelect
                :value="kept.type ?? usual?.type"
                size="small"
                :disabled="locked"
                aria-label="Type"
                :options="['security', 'distribution'].map((v) => ({ label: v, value: v }))"
                @update:value="(type: Kept['type']) => change({ type })"
            /></label>
            <label
              >Scope<NSelect
                :value="kept.scope ?? usual?.scope"
                size="small"
                :disabled="locked"
                aria-label="Scope"
                :options="['universal', 'global', 'domain-local'].map((v) => ({ label: v, value: v }))"
                @update:value="(scope: Kept['scope']) => change({ scope })"
            /></label>
          </template>
          <template v-else>
            <label
              >Class<NSelect
                :value="kept.class ?? usual?.class"
                size="small"
                :disabled="locked"
                aria-label="Object class"
                :options="['groupOfNames', 'groupOfUniqueNames', 'groupOfMembers'].map((v) => ({ label: v, value: v }))"
                @update:value="(name: string) => change({ class: name })"
            /></label>
            <label v-if="(kept.class ?? usual?.class) !== 'groupOfMembers'"
              >Without members<NSelect
                :value="kept.empty ?? usual?.empty"
                size="small"
                :disabled="locked"
                aria-label="What becomes of a group without members"
                :options="[
                  { label: t('its container stands in as a member'), value: 'placeholder' },
                  { label: t('it is made once it has one'), value: 'wait' },
                ]"
                @update:value="(empty: Kept['empty']) => change({ empty })"
            /></label>
          </template>
          <label
            >Mark<NInput
              :value="kept.mark ?? ''"
              size="small"
              :disabled="locked"
              :placeholder="usual?.mark"
              :input-props="{ 'aria-label': t('Attribute that bears the id of a group') }"
              @update:value="(mark: string) => change({ mark })"
          /></label>
          <label class="switch"
            ><NSwitch
              aria-label="Groups as members of groups"
              :value="!kept.flat"
              :disabled="locked"
              size="small"
              @update:value="(nested: boolean) => change({ flat: !nested })"
            />Groups as members of groups</label
          >
          <label
            >Members of a trial<NInputNumber
              :show-button="false"
              :value="kept.trialMembers ?? usual?.trialMembers"
              :min="1"
              size="small"
              :disabled="locked"
              :input-props="{ 'aria-label': t('Members of a trial') }"
              @update:value="(n: number | null) => change({ trialMembers: n ?? undefined })"
          /></label>
          <label
            >No longer kept<NSelect
              :value="kept.leavers ?? usual?.leavers"
              size="small"
              :disabled="locked"
              aria-label="What becomes of a group that is no longer kept"
              :options="[
                { label: t('deleted after the grace time'), value: 'delete' },
                { label: t('stays as it is'), value: 'keep' },
              ]"
              @update:value="(leavers: Kept['leavers']) => change({ leavers })"
          /></label>
          <label v-if="(kept.leavers ?? usual?.leavers) === 'delete'"
            >Grace time<NInput
              :value="kept.grace ?? ''"
              size="small"
              :disabled="locked"
              placeholder="720h, 30 days"
              :input-props="{ 'aria-label': t('Grace time') }"
              @update:value="(grace: string) => change({ grace })"
          /></label>
        </section>
        <div>
          <section class="sheet rules">
            <header>
              <h2>{{ count(rules.length, 'rule') }} for the entry</h2>
              <NPopconfirm v-if="!locked && kept.rules?.length" @positive-click="change({ rules: undefined })"
                ><template #trigger><NButton size="tiny">Restore defaults…</NButton></template
                >Put the default rules in the place of these?</NPopconfirm
              >
            </header>
            <table class="list">
              <tbody>
                <tr v-for="r in rules" :key="r.target" :class="{ here: r.target === chosen }">
                  <td>
                    <button
                      type="button"
                      class="link mono"
                      :aria-pressed="r.target === chosen"
                      @click="chosen = r.target"
                    >
                      {{ r.target }}
                    </button>
                  </td>
                  <td class="mono clip quiet" :title="inWords(r)">{{ inWords(r) }}</td>
                </tr>
              </tbody>
            </table>
            <form v-if="!locked" class="row add" @submit.prevent="addRule">
              <NInput
                v-model:value="another"
                size="small"
                placeholder="another attribute of the entry"
                :input-props="{ 'aria-label': t('Another attribute of the entry') }"
              />
              <NButton attr-type="submit" size="small" :disabled="!another.trim()">Add</NButton>
            </form>
          </section>
          <RuleEditor
            v-if="rule"
            :key="here.name + chosen"
            :model-value="rule"
            kind="cloud-groups"
            over="resource"
            :usual="usualRule"
            :disabled="locked"
            :attributes="groupAttributes"
            :directories="[]"
            :functions="functions.data.value ?? []"
            @update:model-value="setRule"
            @remove="dropRule"
          />
        </div>
      </div>
      <div class="impact"><Impact /></div>
    </template>
  </div>
</template>

<style scoped>
.keeping {
  margin-top: 12px;
}
.head {
  margin: 10px 0;
  gap: 14px;
}
.columns {
  display: grid;
  grid-template-columns: minmax(300px, 400px) 1fr;
  gap: 14px;
  align-items: start;
}
.form {
  padding: 12px 14px;
}
.form label {
  display: grid;
  grid-template-columns: 130px 1fr;
  gap: 8px;
  align-items: center;
  margin-bottom: 7px;
  color: var(--ink-2);
}
.form label > * {
  min-width: 0;
}
.rules td:first-child {
  padding-left: 14px;
}
.form label.switch {
  grid-template-columns: auto 1fr;
}
.form h2 {
  margin: 2px 0 8px;
}
.form h2 + label {
  margin-top: 0;
}
.rules {
  margin-bottom: 14px;
}
.link {
  background: none;
  border: 0;
  padding: 0;
  color: var(--accent);
  cursor: pointer;
}
.here .link {
  font-weight: 650;
}
.impact {
  margin-top: 14px;
}
.add {
  padding: 8px 14px;
  gap: 8px;
  flex-wrap: nowrap;
}
@media (max-width: 1000px) {
  .columns {
    grid-template-columns: 1fr;
  }
}
</style>
