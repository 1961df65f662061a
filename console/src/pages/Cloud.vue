<script setup lang="ts">
// What the cloud can do, what it holds, and whether the connection is well.
import { NButton, NInput, NPopconfirm, NSkeleton, useMessage } from 'naive-ui'
import { computed, ref, shallowRef } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useAct } from '../parts/use-act'
import { count, when } from '../parts/words'
import CloudConnection from '../setup/CloudConnection.vue'
import Verdicts from '../setup/Verdicts.vue'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const session = useSession()
const message = useMessage()
const { data, failure, again } = useLoad(() => unwrap(api.GET('/api/v1/cloud')), [])
const connection = useLoad(() => unwrap(api.GET('/api/v1/cloud/connection')), [])
async function changed(): Promise<void> {
  await Promise.all([connection.again(), again()])
}
useLive().listen((event) => {
  if (event.kind === 'cloud') void changed()
})
const verdicts = shallowRef<Schemas['Verdict'][] | null>(null)
const probing = ref(false)
const text = useQuery<string>('text', '')

const { act } = useAct()
async function forget(target: string): Promise<void> {
  await act(async () => {
    await unwrap(api.DELETE('/api/v1/cloud/forms', { params: { query: { target } } }))
    await again()
  })
}

async function probe(): Promise<void> {
  probing.value = true
  try {
    verdicts.value = await unwrap(api.POST('/api/v1/cloud/probe'))
    await again()
  } catch (e) {
    message.error((e as Error).message)
  } finally {
    probing.value = false
  }
}
const targets = computed(() =>
  (data.value?.targets ?? []).filter(
    (target) =>
      !text.value || (target.path + ' ' + target.description).toLowerCase().includes(text.value.toLowerCase()),
  ),
)
const traits = (target: Schemas['Target']) =>
  [
    target.required && 'required',
    target.unique && 'unique',
    target.multiValued && t('several values'),
    target.readOnly && t('read only'),
  ]
    .filter(Boolean)
    .join(', ')
const from: Record<string, string> = {
  cloud: t('The cloud tells them'),
  settings: t('Named in the settings, since the cloud does not tell'),
  unknown: t('The cloud does not tell, and the settings name none: logins are held against nothing'),
}
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Cloud</h1>
      <span v-if="data" class="quiet"
        ><span class="mono">{{ data.url }}</span
        >, last read {{ when(data.lastRead) }}</span
      ><NButton v-if="session.may('operator')" class="push" size="small" :loading="probing" @click="probe"
        >Probe now</NButton
      >
    </div>
    <section v-if="verdicts" class="sheet">
      <header><h2>Probe</h2></header>
      <div class="body"><Verdicts :verdicts="verdicts" /></div>
    </section>
    <CloudConnection v-if="connection.data.value" :cloud="connection.data.value" @changed="changed" />
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="6" />
    <template v-else>
      <div class="columns">
        <section class="sheet">
          <header>
            <h2>What it can do</h2>
            <RouterLink :to="{ name: 'settings', query: { view: 'cloud' } }">Say what it does otherwise</RouterLink>
          </header>
          <table class="body plain">
            <tbody>
              <tr v-for="one in data.capabilities" :key="one.name">
                <th scope="row">{{ one.name }}</th>
                <td><Tag :text="one.has ? t('Yes') : t('No')" :tone="one.has ? 'success' : 'default'" /></td>
                <td>
                  {{ one.meaning }}<span v-if="one.detail" class="quiet"> ({{ one.detail }})</span>
                </td>
              </tr>
            </tbody>
          </table>
        </section>
        <section class="sheet">
          <header><h2>Login domains</h2></header>
          <div class="body">
            <ul>
              <li v-for="domain in data.domains" :key="domain" class="mono">{{ domain }}</li>
            </ul>
            <p class="quiet">
              {{ from[data.domainsFrom] }}. A login that ends elsewhere is found by a
              <RouterLink :to="{ name: 'survey' }">survey</RouterLink> and never sent.
              <RouterLink :to="{ name: 'domains' }">Who uses them, and how people sign in</RouterLink>
            </p>
            <h2>Resource types</h2>
            <ul>
              <li v-for="type in data.types" :key="type.name">
                {{ type.name }} <span class="quiet mono">{{ type.endpoint }}</span>
              </li>
            </ul>
          </div>
        </section>
      </div>
      <section v-if="data.forms.length" class="sheet" aria-label="Values that the cloud writes its own way">
        <header>
          <h2>Written its own way</h2>
          <span class="quiet">The cloud keeps another value than it was sent. These are not sent again.</span>
        </header>
        <table class="body plain">
          <tbody>
            <tr v-for="form in data.forms" :key="form.kind + form.target">
              <th scope="row" class="mono">{{ form.target }}</th>
              <td>{{ count(form.count, form.kind) }}</td>
              <td>
                “{{ form.sent }}” is kept as {{ form.kept ? `“${form.kept}”` : t('nothing, or without its type') }}
                <NPopconfirm v-if="session.may('operator')" @positive-click="forget(form.target)">
                  <template #trigger><NButton size="tiny" class="beside">Send again…</NButton></template>
                  Let the next run send {{ form.target }} of {{ count(form.count, form.kind) }} once more?
                </NPopconfirm>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
      <section class="sheet">
        <header>
          <h2>Attributes that rules can set</h2>
          <NInput
            v-model:value="text"
            size="small"
            clearable
            style="width: 240px"
            placeholder="Part of a name"
            :input-props="{ 'aria-label': t('Part of an attribute\'s name'), type: 'search' }"
          /><span class="quiet" role="status">{{ targets.length }} of {{ data.targets.length }}</span>
        </header>
        <table class="body plain">
          <tbody>
            <tr v-for="target in targets" :key="target.path">
              <th scope="row" class="mono">{{ target.path }}</th>
              <td class="quiet">{{ target.type }}</td>
              <td>
                {{ target.description }} <span class="quiet">{{ traits(target) }}</span>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
    </template>
  </div>
</template>

<style scoped>
section {
  margin-bottom: 14px;
}
.plain {
  width: 100%;
  border-collapse: collapse;
}
.plain th {
  font-weight: 400;
  text-align: left;
  white-space: nowrap;
}
.plain th.mono {
  white-space: normal;
  overflow-wrap: anywhere;
  width: 42%;
}
.plain th,
.plain td {
  padding: 4px 12px 4px 14px;
  vertical-align: top;
}
.plain tr + tr > * {
  border-top: 1px solid var(--line);
}
ul {
  margin: 0 0 8px;
  padding-left: 18px;
}
p {
  margin: 0 0 12px;
}
</style>
