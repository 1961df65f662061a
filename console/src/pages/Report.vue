<script setup lang="ts">
// What came of a day, a week or a month, to be printed or sent on.
import { NButton, NSkeleton, useMessage } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tabs from '../parts/Tabs.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { count, when } from '../parts/words'
import { language, t } from '../state/language'
import { useSession } from '../state/session'

const days = useQuery<'1' | '7' | '30'>('days', '7', 'from', 'to')
const spans = [
  { value: '1', text: t('Day') },
  { value: '7', text: t('Week') },
  { value: '30', text: t('Month') },
]
// A link in a mail names the time itself.
const from = useQuery<string>('from', '')
const until = useQuery<string>('to', '')
const range = computed(() => {
  if (from.value && until.value) return { from: from.value, to: until.value }
  const to = new Date()
  return { from: new Date(to.getTime() - Number(days.value) * 86_400_000).toISOString(), to: to.toISOString() }
})
const { data, failure, again } = useLoad(
  () => unwrap(api.GET('/api/v1/report', { params: { query: range.value } })),
  [range],
)
const parts = computed<{ title: string; of: Schemas['ReportPart'] }[]>(() =>
  data.value
    ? [
        { title: t('Came'), of: data.value.came },
        { title: t('Left'), of: data.value.left },
        { title: t('Failed'), of: data.value.failed },
        { title: t('Changed'), of: data.value.changed },
      ].filter((part) => part.of.total > 0)
    : [],
)
const csv = computed(() => '/api/v1/report.csv?' + new URLSearchParams(range.value).toString())
const print = () => window.print()
const session = useSession()
const message = useMessage()
const { busy, act: attempt } = useAct()
async function mail(): Promise<void> {
  const sent = await attempt(() => unwrap(api.POST('/api/v1/report/mail', { body: range.value })))
  if (sent) message.success(t('Mailed to {0}', sent.recipients.join(', ')))
}
</script>

<template>
  <div class="report">
    <div class="page-head">
      <h1>Report</h1>
      <span v-if="data" class="quiet" role="status"
        >{{ when(data.from) }} to {{ when(data.to) }}: {{ count(data.runs, 'run') }}, {{ data.failures }} failed</span
      >
      <span class="push" />
      <a :href="csv" download class="no-print">CSV</a>
      <NButton v-if="session.may('operator')" size="small" class="no-print" :loading="busy" @click="mail"
        >Mail it</NButton
      >
      <NButton size="small" class="no-print" @click="print">Print</NButton>
    </div>
    <Tabs v-model="days" :choices="spans" label="Of how long" class="no-print" />
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="8" />
    <template v-else>
      <p v-if="!data.counts.length && !data.problems.length" class="quiet">Nothing was done in this time.</p>
      <div class="two">
        <section v-if="data.counts.length" class="sheet">
          <header><h2>What was done</h2></header>
          <div class="body">
            <table>
              <tbody>
                <tr v-for="c in data.counts" :key="c.kind + c.operation">
                  <td>{{ c.kind }}</td>
                  <td>{{ c.operation }}</td>
                  <td class="number">{{ c.count.toLocaleString(language) }}</td>
                </tr>
              </tbody>
            </table>
          </div>
        </section>
        <section v-if="data.problems.length" class="sheet">
          <header><h2>Problems</h2></header>
          <div class="body">
            <table>
              <thead>
                <tr>
                  <th>Problem</th>
                  <th class="number">Opened</th>
                  <th class="number">Closed</th>
                  <th class="number">Open</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="p in data.problems" :key="p.code">
                  <td>
                    <RouterLink :to="{ name: 'problems', query: { code: p.code } }">{{ t(p.title) }}</RouterLink>
                  </td>
                  <td class="number">{{ p.opened }}</td>
                  <td class="number">{{ p.closed }}</td>
                  <td class="number">{{ p.open }}</td>
                </tr>
              </tbody>
            </table>
          </div>
        </section>
      </div>
      <section v-for="part in parts" :key="part.title" class="sheet">
        <header>
          <h2>{{ part.title }}</h2>
          <span class="quiet">{{ count(part.of.total, 'change') }}</span>
        </header>
        <div class="body">
          <table>
            <tbody>
              <tr v-for="(line, i) in part.of.items" :key="i">
                <td class="quiet when">{{ when(line.at) }}</td>
                <td>{{ line.operation }}</td>
                <td>
                  <RouterLink :to="{ name: 'object', params: { id: line.entryId } }">{{ line.name }}</RouterLink>
                </td>
                <td>
                  <RouterLink :to="{ name: 'run', params: { id: line.runId } }">run {{ line.runId }}</RouterLink> by
                  {{ line.by }}{{ line.released ? t(', who let it through') : '' }}
                </td>
                <td class="quiet">{{ line.answer }}</td>
              </tr>
            </tbody>
          </table>
          <p v-if="part.of.total > part.of.items.length" class="quiet">
            and {{ count(part.of.total - part.of.items.length, 'more', 'more') }}; the CSV has all
          </p>
        </div>
      </section>
      <section v-if="data.acts.length" class="sheet">
        <header><h2>Who did what</h2></header>
        <div class="body">
          <table>
            <tbody>
              <tr v-for="act in data.acts" :key="act.by + act.kind">
                <td>{{ act.by }}</td>
                <td>{{ act.title }}</td>
                <td class="number">{{ act.count }}</td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
    </template>
  </div>
</template>

<style scoped>
td a {
  text-decoration: underline;
}
.sheet {
  margin-top: 14px;
}
.two {
  display: grid;
  grid-template-columns: 1fr 1.6fr;
  gap: 14px;
  align-items: start;
}
table {
  border-collapse: collapse;
  width: 100%;
}
th {
  text-align: left;
  font-weight: 500;
  color: var(--ink-3);
}
td,
th {
  padding: 3px 12px 3px 0;
  vertical-align: top;
  overflow-wrap: anywhere;
}
td {
  border-top: 1px solid var(--line);
}
.number {
  text-align: right;
}
.when {
  width: 150px;
}
</style>
