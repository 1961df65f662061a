<script setup lang="ts">
// What each attribute in the cloud becomes, who is matched to whom, and what
// happens to those who leave.
import { NButton, NInput, NPopconfirm, NSelect, NSkeleton } from 'naive-ui'
import { computed, onMounted } from 'vue'

import Fault from '../parts/Fault.vue'
import Tabs from '../parts/Tabs.vue'
import { useQuery } from '../parts/use-query'
import { shortTarget } from '../parts/words'
import DraftBar from '../setup/DraftBar.vue'
import Impact from '../setup/Impact.vue'
import RuleEditor from '../setup/RuleEditor.vue'
import { inWords, same } from '../setup/rules'
import { useDraft } from '../state/draft'
import { t } from '../state/language'
import { useSession } from '../state/session'
import { useRules, type Plural } from './use-rules'

const draft = useDraft()
const session = useSession()
const kind = useQuery<Plural>('kind', 'users', 'target')
const chosen = useQuery<string>('target', '')
const may = computed(() => session.may('administrator'))
onMounted(draft.load)

const {
  search,
  cloud,
  functions,
  taking,
  rules,
  targets,
  targetOf,
  usualOf,
  shown,
  without,
  needed,
  attributes,
  edited,
  add,
  remove,
  restore,
  directories,
  attributeForm,
  persons,
  setPerson,
  match,
  setMatch,
  move,
  policies,
  days,
} = useRules(kind, chosen)
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Rules</h1>
      <span class="quiet">How each attribute in the cloud gets its value. What has no rule is never touched.</span>
    </div>
    <Fault v-if="draft.failure" :failure="draft.failure" @again="draft.load" />
    <NSkeleton v-else-if="!draft.document" text :repeat="6" />
    <section v-else-if="!draft.document.directories?.length" class="sheet empty">
      <p>No directory is connected yet, so there is nothing to take values from.</p>
      <RouterLink :to="{ name: 'directories' }">Connect a directory</RouterLink>
    </section>
    <template v-else>
      <DraftBar />
      <Tabs
        v-model="kind"
        label="Kind"
        :choices="[
          { value: 'users', text: t('Users') },
          { value: 'groups', text: t('Groups') },
          { value: 'contacts', text: t('Contacts') },
        ]"
      />
      <p v-if="cloud.data.value && !targets.length" class="warn" role="alert">
        The cloud has no such resources: {{ kind }} are counted and surveyed, but not written.
      </p>
      <p v-else-if="!rules.length" class="warn" role="alert">
        There are no rules: {{ kind }} are counted and surveyed, but not written to the cloud. Restore the defaults to
        begin.
      </p>
      <p v-for="target in needed" :key="target.path" class="bad" role="alert">
        The cloud requires {{ target.path }}, and no rule makes it.
      </p>
      <div class="columns">
        <section class="sheet">
          <header>
            <h2>{{ rules.length }} rules</h2>
            <NInput
              v-model:value="search"
              size="small"
              clearable
              placeholder="Attribute or rule"
              style="width: 170px"
              :input-props="{ 'aria-label': t('Attribute or rule contains'), type: 'search' }"
            />
            <NPopconfirm v-if="may" @positive-click="restore"
              ><template #trigger><NButton size="small">All defaults…</NButton></template
              >Put the default rules of {{ kind }} in the place of these?</NPopconfirm
            >
          </header>
          <table class="list rules">
            <tbody>
              <tr v-for="rule in shown" :key="rule.target" :class="{ here: rule.target === chosen }">
                <td>
                  <button
                    type="button"
                    class="link mono"
                    :title="rule.target"
                    :aria-pressed="rule.target === chosen"
                    @click="chosen = rule.target"
                  >
                    {{ shortTarget(rule.target) }}
                  </button>
                </td>
                <td class="mono clip quiet" :title="inWords(rule)">{{ inWords(rule) }}</td>
                <td class="flags quiet">
                  {{ rule.required ? t('required') : '' }}{{ rule.createOnly ? t(' once') : ''
                  }}{{ usualOf(rule.target) && !same(rule, usualOf(rule.target)) ? t(' changed') : '' }}
                </td>
              </tr>
              <tr v-if="!shown.length">
                <td colspan="3" class="quiet">No rule fits.</td>
              </tr>
            </tbody>
          </table>
          <details class="body" :open="Boolean(search) || undefined">
            <summary>{{ without.length }} attributes that the cloud offers and no rule touches</summary>
            <div v-for="target in without" :key="target.path" class="row offer">
              <span class="mono name" :title="target.path">{{ shortTarget(target.path) }}</span><span
                class="quiet name"
                >{{ target.description }}</span
              >
              <NButton v-if="may" size="tiny" class="push" @click="add(target)">Add rule</NButton>
            </div>
          </details>
        </section>
        <div class="right">
          <RuleEditor
            v-if="edited"
            :key="edited.target"
            v-model="edited"
            :kind="kind"
            :target="targetOf(edited.target)"
            :usual="usualOf(edited.target)"
            :disabled="!may"
            :attributes="attributes"
            :directories="directories"
            :functions="functions.data.value ?? []"
            @remove="remove(edited.target)"
          />
          <section v-else class="sheet"><p class="body quiet">Choose a rule to see and edit it.</p></section>
          <section class="sheet">
            <header>
              <h2>Match</h2>
              <span class="quiet">who is in the cloud already, in this order</span>
            </header>
            <div class="body">
              <p class="quiet">
                First the link key. Then, without a link: the first rule that finds exactly one resource adopts it;
                several are a problem.
              </p>
              <div v-for="(m, i) in match" :key="i" class="row matching">
                <span class="quiet">{{ i + 1 }}.</span>
                <NInput
                  size="small"
                  style="width: 120px"
                  :value="m.name"
                  :disabled="!may"
                  :input-props="{ 'aria-label': t('Name of match rule {0}', i + 1) }"
                  @update:value="(name: string) => setMatch(i, { name })"
                />
                <NInput
                  size="small"
                  style="width: 125px"
                  class="mono"
                  :value="m.resource"
                  :disabled="!may"
                  :input-props="{ 'aria-label': t('Resource attribute of match rule {0}', i + 1) }"
                  @update:value="(resource: string) => setMatch(i, { resource })"
                />
                <span>=</span>
                <NInput
                  size="small"
                  style="width: 120px"
                  class="mono"
                  :value="m.from ?? ''"
                  placeholder="by its rule"
                  :disabled="!may"
                  :input-props="{
                    'aria-label': t('Directory attribute of match rule {0}; empty for what the rule gives', i + 1),
                  }"
                  @update:value="(from: string) => setMatch(i, { from: from || undefined })"
                />
                <template v-if="may"
                  ><NButton size="tiny" quaternary :disabled="i === 0" aria-label="Earlier" @click="move(i, -1)"
                    >↑</NButton
                  ><NButton
                    size="tiny"
                    quaternary
                    aria-label="Take away"
                    @click="taking && (taking.match = match.filter((_, at) => at !== i))"
                    >×</NButton
                  ></template
                >
              </div>
              <NButton v-if="may" size="tiny" @click="taking && (taking.match = [...match, { name: '', resource: '' }])"
                >Another match rule</NButton
              >
            </div>
          </section>
          <section
            v-if="kind === 'users' && (directories.length > 1 || persons.length || taking?.carriedId)"
            class="sheet"
          >
            <header>
              <h2>One person</h2>
              <span class="quiet">with entries in several directories</span>
            </header>
            <div class="body">
              <p class="quiet">
                Entries of different directories that give the same text are one person and share one resource.
                {{ directories.join(', then ') }}: the first that has a value counts, unless a rule asks another first.
              </p>
              <div v-for="(j, i) in persons" :key="i" class="row matching">
                <NInput
                  size="small"
                  style="width: 190px; flex: none"
                  :value="j.name"
                  placeholder="name"
                  :disabled="!may"
                  :input-props="{ 'aria-label': t('Name of person rule {0}', i + 1) }"
                  @update:value="(name: string) => setPerson(i, { name })"
                />
                <NInput
                  size="small"
                  class="mono wide"
                  :value="j.formula ?? j.from ?? ''"
                  placeholder="attribute or formula"
                  :disabled="!may"
                  :input-props="{ 'aria-label': t('What person rule {0} compares: an attribute or a formula', i + 1) }"
                  @update:value="
                    (text: string) =>
                      setPerson(
                        i,
                        attributeForm.test(text)
                          ? { from: text, formula: undefined }
                          : { formula: text, from: undefined },
                      )
                  "
                />
                <NButton
                  v-if="may"
                  size="tiny"
                  quaternary
                  aria-label="Take this person rule away"
                  @click="taking && (taking.person = persons.filter((_, at) => at !== i))"
                  >×</NButton
                >
              </div>
              <NButton v-if="may" size="tiny" @click="taking && (taking.person = [...persons, { name: '', from: '' }])"
                >Another person rule</NButton
              >
              <label class="row carried"
                >Carried id
                <NInput
                  size="small"
                  style="width: 200px"
                  class="mono"
                  :value="taking?.carriedId ?? ''"
                  placeholder="none"
                  :disabled="!may"
                  :input-props="{ 'aria-label': t('Attribute with the id that the entry had in another directory') }"
                  @update:value="(value: string) => taking && (taking.carriedId = value || undefined)"
              /></label>
              <p class="quiet">
                An attribute that holds the id of the person's old entry; whoever comes with it takes that entry's
                resource over.
              </p>
            </div>
          </section>
          <section class="sheet">
            <header><h2>Leavers</h2></header>
            <div class="body row">
              <NSelect
                v-if="taking"
                size="small"
                style="width: 290px"
                :value="taking.leavers ?? null"
                :options="policies"
                :disabled="!may"
                aria-label="What happens to leavers"
                @update:value="(value: 'suspend' | 'delete' | 'keep') => taking && (taking.leavers = value)"
              />
              <label v-if="taking?.leavers === 'delete'" class="row"
                >after
                <NInput
                  v-model:value="days"
                  size="small"
                  style="width: 70px"
                  :disabled="!may"
                  :input-props="{ 'aria-label': t('Grace time in days') }"
                />
                days</label
              >
            </div>
          </section>
          <Impact />
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.columns {
  --aside: minmax(0, 480px);
  margin-top: 12px;
}
.rules {
  table-layout: fixed;
}
.rules td {
  padding: 5px 8px 5px 14px;
}
.rules td:first-child {
  width: 34%;
  overflow-wrap: anywhere;
}
.flags {
  width: 70px;
  font-size: 12px;
}
.body p {
  margin: 0 0 8px;
}
.here {
  background: color-mix(in srgb, var(--brass) 16%, transparent);
  box-shadow: inset 3px 0 var(--brass);
}
.link {
  background: none;
  border: 0;
  padding: 0;
  color: var(--accent);
  cursor: pointer;
  text-align: left;
}
.offer {
  padding: 3px 0;
  border-bottom: 1px solid var(--line);
}
.name {
  overflow-wrap: anywhere;
}
.matching {
  margin-bottom: 6px;
  gap: 6px;
  flex-wrap: nowrap;
}
.carried {
  margin: 10px 0 4px;
}
.wide {
  flex: 1;
}
.empty {
  padding: 18px;
}
details summary {
  cursor: pointer;
}
@media (max-width: 1050px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
