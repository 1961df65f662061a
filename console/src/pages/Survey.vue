<script setup lang="ts">
// What the cloud would refuse, found beforehand, and repaired in the directory.
import {
  NButton,
  NDataTable,
  NInput,
  NModal,
  NPagination,
  NSelect,
  NSkeleton,
  type DataTableColumns,
  type DataTableRowKey,
} from 'naive-ui'
import { computed, h, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { api, orNull, unwrap, type Schemas } from '../api/client'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useRun } from '../parts/use-run'
import { useTyped } from '../parts/use-typed'
import { count, took, when } from '../parts/words'
import { language, t } from '../state/language'
import { useSession } from '../state/session'
import { useRepairs } from './use-repairs'

type Finding = Schemas['Finding']
const pageSize = 50
const session = useSession()
const code = useQuery<string>('kind', '', 'page')
const text = useQuery<string>('text', '', 'page')
const page = useQuery<string>('page', '1')
const typed = useTyped(text)

const survey = useLoad(() => orNull(unwrap(api.GET('/api/v1/surveys/{id}', { params: { path: { id: 0 } } }))), [])
const findings = useLoad(
  async () =>
    survey.data.value
      ? await unwrap(
          api.GET('/api/v1/surveys/{id}/findings', {
            params: {
              path: { id: survey.data.value.run.id },
              query: {
                code: code.value || undefined,
                text: text.value || undefined,
                limit: pageSize,
                cursor: page.value === '1' ? undefined : String((Number(page.value) - 1) * pageSize),
              },
            },
          }),
        )
      : null,
  [() => survey.data.value?.run.id, code, text, page],
)
const { running, start } = useRun(
  (run) => run.purpose === 'survey',
  async () => {
    page.value = '1'
    await survey.again()
    await findings.again()
  },
)
const surveyNow = (draft: boolean) => start(() => unwrap(api.POST('/api/v1/surveys', { body: { draft } })))
const {
  chosen,
  pattern,
  items,
  left,
  choosing,
  writing,
  repair,
  repairs,
  hows,
  choose,
  byPattern,
  write,
  showRepair,
  undo,
} = useRepairs(() => survey.data.value?.run.id ?? 0)
watch([code, text, () => survey.data.value?.run.id], () => (chosen.value = []))
const prepare = () =>
  choose({
    ...(chosen.value.length ? { numbers: chosen.value.map(Number) } : { code: code.value }),
    pattern: byPattern.value,
  })
async function fromFile(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const file = input.files?.[0]
  if (file) await choose({ csv: await file.text() })
  input.value = ''
}

const group = computed(() => survey.data.value?.groups.find((g) => g.code === code.value))
const columns = computed<DataTableColumns<Finding>>(() => [
  ...(session.may('administrator') ? [{ type: 'selection' as const, disabled: (f: Finding) => !f.attribute }] : []),
  ...(code.value
    ? []
    : [
        {
          title: t('Kind'),
          key: 'code',
          width: 150,
          render: (f: Finding) => t(survey.data.value?.groups.find((g) => g.code === f.code)?.title) || f.code,
        },
      ]),
  {
    title: t('Entry'),
    key: 'name',
    width: 205,
    ellipsis: { tooltip: false },
    render: (f) =>
      h('div', { title: f.dn }, [
        h(RouterLink, { to: { name: 'object', params: { id: f.entryId } } }, () => f.name),
        h('div', { class: 'quiet mono clip' }, f.dn.slice(f.dn.indexOf(',') + 1)),
      ]),
  },
  { title: t('Attribute'), key: 'attribute', width: 152, render: (f) => f.attribute },
  {
    title: t('Now, and the proposal'),
    key: 'value',
    width: 290,
    render: (f) =>
      h('div', { class: 'clip', title: f.value }, [
        h('div', { class: 'clip' }, f.value || (f.attribute ? 'nothing' : '')),
        f.action === 'set'
          ? h('div', { class: 'good clip', title: f.proposal }, `→ ${f.proposal}`)
          : h(
              'div',
              { class: 'quiet' },
              f.action === 'remove' ? t('→ take it away') : t('a person must say what is right'),
            ),
      ]),
  },
  { title: t('Why'), key: 'detail', render: (f) => h('span', { style: 'overflow-wrap: anywhere' }, f.detail) },
])
const verified = (domain: Schemas['Domain']) =>
  domain.verified === undefined
    ? { text: t('Not told'), tone: 'default' as const }
    : domain.verified
      ? { text: t('Verified'), tone: 'success' as const }
      : { text: t('Not verified'), tone: 'error' as const }
const stateTone = { done: 'success', failed: 'error', waiting: 'info' } as const
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Survey</h1>
      <span v-if="survey.data.value" class="quiet"
        >of {{ when(survey.data.value.run.ended) }} by {{ survey.data.value.run.by }}:
        {{ survey.data.value.run.counts.surveyed ?? 0 }} entries in
        {{ took(survey.data.value.run.started, survey.data.value.run.ended) }},
        {{ count(survey.data.value.run.counts.findings ?? 0, 'finding') }}</span
      >
      <template v-if="session.may('operator')">
        <NButton class="push" size="small" type="primary" :loading="Boolean(running)" @click="surveyNow(false)"
          >Survey now</NButton
        >
        <NButton size="small" :disabled="Boolean(running)" @click="surveyNow(true)">By the draft</NButton>
      </template>
    </div>
    <p v-if="running" class="quiet" role="status">
      {{
        running.stage === 'survey'
          ? t('Looking: {0} entries', (running.counts.surveyed ?? 0).toLocaleString(language))
          : t('Reading what changed')
      }}…
    </p>
    <Fault v-if="survey.failure.value" :failure="survey.failure.value" @again="survey.again" />
    <NSkeleton v-else-if="survey.loading.value && !survey.data.value" text :repeat="6" />
    <section v-else-if="!survey.data.value" class="sheet empty">
      <p>
        Nothing was surveyed yet. A survey looks at everybody in scope for what the cloud would refuse or what would
        surprise people: wrong login suffixes, malformed or doubled addresses, missing names, collisions. It changes
        nothing; repairs are written only when you say so, and can be undone.
      </p>
    </section>
    <template v-else>
      <div class="columns">
        <section class="sheet kinds" aria-label="Findings by kind">
          <button type="button" class="kind" :class="{ here: !code }" @click="code = ''">
            <span>All findings</span><strong>{{ survey.data.value.run.counts.findings ?? 0 }}</strong>
          </button>
          <button
            v-for="one in survey.data.value.groups"
            :key="one.code"
            type="button"
            class="kind"
            :class="{ here: code === one.code }"
            @click="code = one.code"
          >
            <span>{{ t(one.title) }}</span><strong>{{ one.count }}</strong>
          </button>
          <p v-if="!survey.data.value.groups.length" class="good">
            Nothing found: the cloud would take everybody as they are.
          </p>
        </section>
        <section class="sheet domains" aria-label="Login suffixes">
          <table>
            <thead>
              <tr>
                <th>Login suffix in use</th>
                <th>Users</th>
                <th>In the cloud</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="domain in survey.data.value.domains" :key="domain.name">
                <td class="mono">{{ domain.name }}</td>
                <td>{{ domain.entries.toLocaleString(language) }}</td>
                <td><Tag v-bind="verified(domain)" /></td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
      <p v-if="group" class="means">
        <strong>{{ t(group.title) }}.</strong> {{ t(group.cause) }} {{ t(group.remedy) }}
      </p>
      <div class="row tools">
        <NInput
          v-model:value="typed"
          size="small"
          clearable
          placeholder="Name or value contains"
          style="width: 220px"
          :input-props="{ 'aria-label': t('Name or value contains'), type: 'search' }"
        />
        <a
          class="link"
          :href="`/api/v1/surveys/${survey.data.value.run.id}/findings.csv${code ? `?code=${code}` : ''}`"
          download="survey.csv"
          >Export CSV</a
        >
        <template v-if="session.may('administrator')">
          <label class="link file">CSV back in… <input type="file" accept=".csv,text/csv" @change="fromFile" /></label>
          <span class="push" />
          <span v-if="chosen.length || code"
            >{{ chosen.length ? t('{0} chosen:', chosen.length) : t('All of this kind:') }} use</span
          >
          <span v-else class="quiet">Choose findings or a kind to repair them.</span>
          <template v-if="chosen.length || code">
            <NSelect
              v-model:value="pattern.how"
              :options="hows"
              size="small"
              style="width: 165px"
              aria-label="Where the new values come from"
            />
            <template v-if="pattern.how === 'suffix'"
              ><NInput
                v-model:value="pattern.suffix"
                size="small"
                style="width: 180px"
                placeholder="@corp.halvard.example"
                :input-props="{ 'aria-label': t('Suffix to replace') }" /><NInput
                v-model:value="pattern.with"
                size="small"
                style="width: 150px"
                placeholder="@halvard.example"
                :input-props="{ 'aria-label': t('New suffix') }"
            /></template>
            <NInput
              v-if="pattern.how === 'from'"
              v-model:value="pattern.from"
              size="small"
              style="width: 130px"
              :input-props="{ 'aria-label': t('Attribute to take') }"
            />
            <NButton size="small" type="primary" :loading="choosing" @click="prepare">Repair…</NButton>
          </template>
        </template>
      </div>
      <Fault v-if="findings.failure.value" :failure="findings.failure.value" @again="findings.again" />
      <NDataTable
        v-else
        remote
        :columns="columns"
        :data="findings.data.value?.items ?? []"
        :row-key="(f: Finding) => f.number"
        :checked-row-keys="chosen"
        size="small"
        @update:checked-row-keys="(keys: DataTableRowKey[]) => (chosen = keys)"
      >
        <template #empty>{{ code || text ? t('No finding fits this choice.') : t('Nothing found.') }}</template>
      </NDataTable>
      <div class="row foot">
        <NPagination
          v-if="(findings.data.value?.total ?? 0) > pageSize"
          :page="Number(page)"
          :page-size="pageSize"
          :item-count="findings.data.value?.total ?? 0"
          @update:page="(n: number) => (page = String(n))"
        />
      </div>
    </template>
    <section v-if="repairs.data.value?.length" class="sheet written">
      <header><h2>Written to directories</h2></header>
      <table class="list body">
        <tbody>
          <tr v-for="one in repairs.data.value" :key="one.id">
            <td>
              <button type="button" class="link" @click="showRepair(one.id)">Repair {{ one.id }}</button>
            </td>
            <td>
              {{ when(one.created) }} by {{ one.by }}{{ one.undoes ? t(', undoing repair {0}', one.undoes) : '' }}
            </td>
            <td>
              {{ one.done }} done<span v-if="one.failed" class="bad">, {{ one.failed }} refused</span
              ><span v-if="one.waiting">, {{ one.waiting }} waiting</span>
            </td>
          </tr>
        </tbody>
      </table>
    </section>
    <NModal
      :show="Boolean(items)"
      preset="card"
      title="Repair in the directory"
      style="width: 960px"
      @update:show="(on: boolean) => !on && (items = null)"
    >
      <p v-if="items && !items.length">There is no new value for any of the chosen findings.</p>
      <template v-else-if="items">
        <p>
          {{ count(items.length, 'value') }} will be written through the agents, each only while the old value is still
          there. Edit what is not right.<span v-if="left" class="quiet">
            {{ count(left, 'finding') }} left as they are: there is no new value for them.</span
          >
        </p>
        <div class="edit">
          <table>
            <thead>
              <tr>
                <th>Entry</th>
                <th>Attribute</th>
                <th>Now</th>
                <th>Will be</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="item in items" :key="item.directory + item.entryId + item.attribute + item.before">
                <td>
                  {{ item.name || item.dn }}
                  <div class="quiet">{{ item.directory }}</div>
                </td>
                <td>{{ item.attribute }}</td>
                <td class="before">{{ item.before || t('nothing') }}</td>
                <td>
                  <NInput
                    v-model:value="item.after"
                    size="small"
                    placeholder="nothing: it is taken away"
                    :input-props="{ 'aria-label': t('New value for {0}', item.name) }"
                  />
                </td>
              </tr>
            </tbody>
          </table>
        </div>
        <div class="row">
          <NButton size="small" type="primary" :loading="writing" @click="write"
            >Write {{ count(items.length, 'value') }}</NButton
          ><NButton size="small" @click="items = null">Leave it</NButton>
        </div>
      </template>
    </NModal>
    <NModal
      :show="Boolean(repair)"
      preset="card"
      :title="t('Repair {0}', repair?.id ?? '')"
      style="width: 960px"
      @update:show="(on: boolean) => !on && (repair = null)"
    >
      <template v-if="repair">
        <p role="status">
          {{ repair.done }} done, <span :class="{ bad: repair.failed }">{{ repair.failed }} refused</span>,
          {{ repair.waiting }} waiting. By {{ repair.by }}, {{ when(repair.created) }}.
        </p>
        <div class="edit">
          <table>
            <thead>
              <tr>
                <th>State</th>
                <th>Entry</th>
                <th>Attribute</th>
                <th>Before</th>
                <th>After</th>
                <th>Answer</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="item in repair.items ?? []" :key="item.number">
                <td><Tag :text="item.state ?? ''" :tone="stateTone[item.state ?? 'waiting']" /></td>
                <td><Dn :dn="item.dn ?? ''" /></td>
                <td>{{ item.attribute }}</td>
                <td class="before">{{ item.before || t('nothing') }}</td>
                <td class="before">{{ item.after || t('nothing') }}</td>
                <td class="bad">{{ item.answer }}</td>
              </tr>
            </tbody>
          </table>
        </div>
        <div class="row">
          <NButton
            v-if="session.may('administrator') && repair.done && repair.state !== 'running'"
            size="small"
            @click="undo(repair.id)"
            >Undo: bring the old values back</NButton
          ><NButton v-if="repair.state !== 'running'" size="small" @click="surveyNow(false)">Survey again</NButton>
        </div>
      </template>
    </NModal>
  </div>
</template>

<style scoped>
.columns {
  --aside: minmax(0, 1fr);
  margin-bottom: 12px;
}
.kinds,
.domains {
  padding: 8px 12px;
}
.kind {
  display: flex;
  justify-content: space-between;
  width: 100%;
  background: none;
  border: 0;
  border-left: 3px solid transparent;
  font: inherit;
  color: inherit;
  padding: 3px 8px;
  cursor: pointer;
  text-align: left;
}
.kind:hover {
  color: var(--accent);
}
.kind.here {
  border-left-color: var(--brass);
  font-weight: 650;
}
table {
  width: 100%;
  border-collapse: collapse;
}
th {
  font-weight: 400;
  color: var(--ink-3);
  font-size: 12.5px;
  text-align: left;
}
td,
th {
  padding: 3px 10px 3px 0;
  vertical-align: top;
}
.link {
  color: var(--accent);
  background: none;
  border: 0;
  font: inherit;
  padding: 0;
  cursor: pointer;
}
.foot {
  margin-top: 10px;
  justify-content: flex-end;
}
.written {
  margin-top: 18px;
}
.edit {
  max-height: 420px;
  overflow: auto;
  margin-bottom: 10px;
}
.before {
  overflow-wrap: anywhere;
}
.empty {
  padding: 16px 18px;
  max-width: 720px;
}
</style>
