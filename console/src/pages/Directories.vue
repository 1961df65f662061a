<script setup lang="ts">
// Directories and agents: what is connected, how well, and what to do next.
import { NButton, NForm, NFormItem, NInput, NPopconfirm, NRadio, NRadioGroup, NSkeleton, useMessage } from 'naive-ui'
import { reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { api, Refusal, unwrap, type Schemas } from '../api/client'
import { dialectLabel, dialects, type Dialect } from '../parts/dialects'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { count, when, type Tone } from '../parts/words'
import AgentReleases from '../setup/AgentReleases.vue'
import AgentVersion from '../setup/AgentVersion.vue'
import { language, t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const session = useSession()
const router = useRouter()
const message = useMessage()
const adding = useQuery<'yes' | ''>('add', '')
const { data, failure, again } = useLoad(() => unwrap(api.GET('/api/v1/directories')), [])
const agents = useLoad(() => unwrap(api.GET('/api/v1/agents')), [])
const removals = useLoad(() => unwrap(api.GET('/api/v1/removals')), [])
useLive().listen((event) => {
  if (event.kind === 'agent' || event.kind === '') void agents.again()
  if (event.kind !== 'repair') void again()
  if (event.kind === 'settings') void removals.again()
})

const form = reactive({ name: '', dialect: 'ad' as Dialect, base: '' })
const refused = ref('')
const busy = ref(false)
async function add(): Promise<void> {
  busy.value = true
  refused.value = ''
  try {
    await unwrap(
      api.POST('/api/v1/directories', {
        body: { name: form.name.trim(), dialect: form.dialect, base: form.base.trim() },
      }),
    )
    await router.push({ name: 'directory', params: { name: form.name.trim() } })
  } catch (e) {
    refused.value = e instanceof Refusal ? e.message : String(e)
  } finally {
    busy.value = false
  }
}

async function bringBack(removal: Schemas['Removal']): Promise<void> {
  try {
    const back = await unwrap(api.POST('/api/v1/removals/{id}/undo', { params: { path: { id: removal.id } } }))
    message.success(t('{0} is back with {1}, in revision {2}.', back.name, count(back.links, 'link'), back.revision))
    await Promise.all([again(), removals.again()])
  } catch (e) {
    message.error((e as Error).message)
  }
}

async function grant(agent: Schemas['Agent']): Promise<void> {
  try {
    await unwrap(
      api.PUT('/api/v1/agents/{id}/directories', {
        params: { path: { id: agent.id } },
        body: { directories: [...agent.granted, ...agent.asks] },
      }),
    )
    message.success(t('{0} may speak for {1}.', agent.name, agent.asks.join(' and ')))
    await Promise.all([agents.again(), again()])
  } catch (e) {
    message.error((e as Error).message)
  }
}

async function retire(agent: Schemas['Agent']): Promise<void> {
  try {
    await unwrap(api.DELETE('/api/v1/agents/{id}', { params: { path: { id: agent.id } } }))
    message.success(t('{0} is retired. It ends by itself when it next asks for an order.', agent.name))
    await agents.again()
  } catch (e) {
    message.error((e as Error).message)
  }
}

function watchWord(one: Schemas['Watch']): string {
  if (one.state === 'watched') return t('hears of changes in {0} as they come', one.directory)
  if (one.state === 'broken')
    return t('hears of no changes in {0} since {1}; tries again', one.directory, when(one.since))
  if (one.state === 'polled')
    return t('asks {0} every 10 seconds what has changed, since it does not tell', one.directory)
  return t('{0} does not tell of changes; the schedule reads them', one.directory)
}
const agentTone: Record<string, Tone> = { online: 'success', offline: 'error', 'never-seen': 'default' }
const probeTone: Record<string, Tone> = { good: 'success', doubtful: 'warning', bad: 'error' }
const probeWord: Record<string, string> = { good: t('Good'), doubtful: t('Look at it'), bad: t('Wrong') }
const online = (directory: Schemas['ConnectedDirectory']) =>
  directory.agents.filter((agent) => agent.state === 'online').length
function next(d: Schemas['ConnectedDirectory']): string {
  if (!d.agents.length) return t('Enrol an agent')
  if (!online(d)) return t('Start its agent')
  if (!d.probe) return t('Probe the connection')
  if (d.probe.outcome === 'bad') return t('Correct what the probe found')
  if (!d.lastRead) return t('Read it')
  if (!d.active) return t('Choose containers and activate')
  return ''
}
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Directories</h1>
      <NButton
        v-if="session.may('administrator') && !adding"
        class="push"
        size="small"
        type="primary"
        @click="adding = 'yes'"
        >Add directory</NButton
      >
    </div>
    <section v-if="adding" class="sheet add">
      <header>
        <h2>Add a directory</h2>
        <NButton size="small" quaternary @click="adding = ''">Close</NButton>
      </header>
      <NForm class="body" size="small" label-placement="left" label-width="90" @submit.prevent="add">
        <NFormItem label="Dialect">
          <NRadioGroup v-model:value="form.dialect" name="dialect">
            <div v-for="(one, name) in dialects" :key="name">
              <NRadio :value="name"
                >{{ one.label }} <span class="quiet">({{ one.about }})</span></NRadio
              >
            </div>
          </NRadioGroup>
        </NFormItem>
        <NFormItem label="Name"
          ><NInput
            v-model:value="form.name"
            placeholder="halvard"
            :input-props="{ 'aria-label': t('Name'), autocapitalize: 'none' }"
        /></NFormItem>
        <NFormItem label="Base"
          ><NInput
            v-model:value="form.base"
            class="mono"
            placeholder="DC=corp,DC=halvard,DC=example"
            :input-props="{ 'aria-label': t('Base') }"
        /></NFormItem>
        <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
        <div class="row">
          <NButton attr-type="submit" type="primary" size="small" :loading="busy" :disabled="!form.name || !form.base"
            >Add to the draft</NButton
          ><span class="quiet"
            >Nothing is read or synced yet. Passwords of the directory never come here: they stay on the agent's
            host.</span
          >
        </div>
      </NForm>
    </section>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="4" />
    <section v-else-if="!data.length" class="sheet empty">
      <p>
        No directory is connected yet. Add the first one; a few steps lead from there to the first run, and nothing
        reaches the cloud before you activate.
      </p>
    </section>
    <table v-else class="sheet table">
      <thead>
        <tr>
          <th>Directory</th>
          <th>Settings</th>
          <th>Agents</th>
          <th>Probe</th>
          <th>In the mirror</th>
          <th>Next step</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="directory in data" :key="directory.name">
          <td>
            <RouterLink :to="{ name: 'directory', params: { name: directory.name } }"
              ><strong>{{ directory.name }}</strong></RouterLink
            ><br /><span class="quiet mono">{{ directory.base }}</span>
          </td>
          <td>
            {{ directory.active ? t('active') : t('in the draft only') }}<br /><span class="quiet">{{
              dialectLabel(directory.dialect)
            }}</span>
          </td>
          <td>
            <span :class="online(directory) ? '' : 'bad'"
              >{{ online(directory) }} of {{ directory.agents.length }} online</span
            ><br /><Tag v-if="directory.plain" text="Plain LDAP" tone="error" />
          </td>
          <td>
            <Tag
              v-if="directory.probe"
              :text="probeWord[directory.probe.outcome] ?? ''"
              :tone="probeTone[directory.probe.outcome] ?? 'default'"
            /><span v-else class="quiet">never</span><br /><span class="quiet">{{
              directory.probe ? when(directory.probe.at) : ''
            }}</span>
          </td>
          <td>
            {{ directory.entries.toLocaleString(language) }} entries, {{ count(directory.links, 'link') }}<br /><span
              class="quiet"
              >read {{ when(directory.lastRead) }}</span
            >
          </td>
          <td>
            <RouterLink v-if="next(directory)" :to="{ name: 'directory', params: { name: directory.name } }">{{
              next(directory)
            }}</RouterLink><span v-else class="quiet">none</span>
          </td>
        </tr>
      </tbody>
    </table>
    <section v-if="removals.data.value?.length" class="sheet gone">
      <header><h2>Taken away</h2></header>
      <div class="body">
        <div v-for="removal in removals.data.value" :key="removal.id" class="row">
          <strong>{{ removal.name }}</strong><span class="quiet"
            >with {{ count(removal.links, 'link') }}, by {{ removal.by }}, {{ when(removal.removed) }}; can be brought
            back until {{ when(removal.until) }}</span
          ><NButton v-if="session.may('administrator')" size="tiny" @click="bringBack(removal)">Bring back</NButton>
        </div>
      </div>
    </section>
    <div class="page-head agents">
      <h2>Agents</h2>
      <span class="quiet"
        >An agent runs beside a directory and only ever connects outward. With several for one directory, another goes
        on when one dies.</span
      >
    </div>
    <Fault v-if="agents.failure.value" :failure="agents.failure.value" @again="agents.again" />
    <p v-else-if="agents.data.value && !agents.data.value.length" class="quiet">
      No agent is enrolled. The page of a directory issues the code and shows what to run.
    </p>
    <table v-else-if="agents.data.value" class="sheet table">
      <thead>
        <tr>
          <th>Agent</th>
          <th>State</th>
          <th>Serves</th>
          <th>Last contact</th>
          <th>Version</th>
          <th><span class="visually-hidden">Acts</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="agent in agents.data.value" :key="agent.id">
          <td>
            <strong class="name">{{ agent.name }}</strong><br /><span class="quiet">{{ agent.host }}</span>
          </td>
          <td>
            <Tag :text="agent.state" :tone="agentTone[agent.state] ?? 'default'" />
            <template v-for="fault in agent.faults" :key="fault.directory">
              <Tag class="beside" :text="t('Fails at {0}', fault.directory)" tone="error" />
              <p class="quiet fails">{{ t(fault.title) }} since {{ when(fault.since) }}: {{ fault.detail }}</p>
            </template>
          </td>
          <td>
            {{ agent.directories.join(', ') || t('nothing yet') }}
            <div v-for="one in agent.watches" :key="one.directory" class="quiet" :title="one.detail">
              {{ watchWord(one) }}
            </div>
            <template v-if="agent.asks.length">
              <Tag :text="t('Asks for {0}', agent.asks.join(', '))" tone="warning" />
              <NPopconfirm v-if="session.may('administrator')" @positive-click="grant(agent)">
                <template #trigger><NButton size="tiny" class="beside">Grant…</NButton></template>
                Let {{ agent.name }} on {{ agent.host }} speak for {{ agent.asks.join(' and ') }}? All that it says of
                its people is then believed.
              </NPopconfirm>
            </template>
            <Tag v-if="agent.plain.length" :text="t('Plain LDAP: {0}', agent.plain.join(', '))" tone="error" />
          </td>
          <td>{{ when(agent.lastContact) }}</td>
          <td><AgentVersion :agent="agent" @changed="agents.again" /></td>
          <td>
            <NPopconfirm v-if="session.may('administrator')" @positive-click="retire(agent)"
              ><template #trigger><NButton size="tiny" quaternary>Retire…</NButton></template
              >End the identity of {{ agent.name }}?
              {{
                agent.directories.length ? t('What it serves goes to other agents, if there are any.') : ''
              }}</NPopconfirm
            >
          </td>
        </tr>
      </tbody>
    </table>
    <AgentReleases v-if="agents.data.value?.length" :agents="agents.data.value" @changed="agents.again" />
  </div>
</template>

<style scoped>
.name {
  white-space: nowrap;
}
.fails {
  max-width: 430px;
  margin: 4px 0 0;
  overflow-wrap: anywhere;
}
.add {
  max-width: 720px;
  margin-bottom: 14px;
}
.empty {
  padding: 16px 18px;
  max-width: 640px;
}
.gone,
.agents {
  margin-top: 20px;
}
.beside {
  margin-left: 6px;
}
</style>
