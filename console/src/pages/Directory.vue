<script setup lang="ts">
// One directory on its way from a name to the first run: agent, probe, reading,
// containers, activation; and later how it stands.
import { NButton, NCheckbox, NInput, NModal, NSkeleton } from 'naive-ui'
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import type { Schemas } from '../api/client'
import { dialectLabel } from '../parts/dialects'
import StepMark from '../parts/StepMark.vue'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { count, when, type Tone } from '../parts/words'
import Verdicts from '../setup/Verdicts.vue'
import { language, t } from '../state/language'
import { useSession } from '../state/session'
import { useDirectory } from './use-directory'

const route = useRoute()
const session = useSession()
const {
  data,
  failure,
  again,
  online,
  steps,
  code,
  issue,
  commands,
  download,
  copy,
  probing,
  probe,
  read,
  features,
  setFeature,
  rights,
  showRights,
  removal,
  typed,
  askRemoval,
  remove,
} = useDirectory(computed(() => String(route.params.name)))
function faultOf(agent: Schemas['Agent']): Schemas['AgentFault'] | undefined {
  return agent.faults.find((fault) => fault.directory === data.value?.name)
}
const agentTone: Record<string, Tone> = { online: 'success', offline: 'error', 'never-seen': 'default' }
</script>

<template>
  <div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="6" />
    <template v-else>
      <div class="page-head">
        <h1>{{ data.name }}</h1>
        <Tag :text="data.active ? t('Active') : t('In the draft only')" :tone="data.active ? 'success' : 'info'" />
        <Tag v-if="data.plain" text="Plain LDAP" tone="error" />
        <span class="quiet"
          >{{ dialectLabel(data.dialect) }}, <span class="mono">{{ data.base }}</span></span
        >
        <NButton v-if="session.may('administrator')" class="push" size="small" quaternary @click="askRemoval"
          >Take away…</NButton
        >
        <RouterLink :to="{ name: 'directories' }">All directories</RouterLink>
      </div>
      <ol class="steps" aria-label="Steps">
        <li
          v-for="(step, i) in steps"
          :key="step.text"
          :data-done="step.done"
          :data-next="!step.done && steps.slice(0, i).every((before) => before.done)"
        >
          <StepMark
            :done="step.done"
            :next="!step.done && steps.slice(0, i).every((before) => before.done)"
            :text="i + 1"
          />{{ step.text }}<span class="visually-hidden">{{ step.done ? t(', done') : t(', to do') }}</span>
        </li>
      </ol>
      <div class="columns">
        <div class="left">
          <section class="sheet">
            <header>
              <h2>Agents</h2>
              <NButton v-if="session.may('administrator')" size="small" @click="issue">{{
                code ? t('Issue another code') : t('Enrol an agent')
              }}</NButton>
            </header>
            <div class="body">
              <p v-if="!data.agents.length" class="quiet">
                No agent serves this directory. Issue a code and run the commands on a host near the directory; this
                page notices by itself.
              </p>
              <div v-for="agent in data.agents" :key="agent.id" class="row agent">
                <Tag :text="agent.state" :tone="agentTone[agent.state] ?? 'default'" /><strong>{{ agent.name }}</strong
                ><span class="quiet">on {{ agent.host }}, last contact {{ when(agent.lastContact) }}</span
                ><Tag v-if="agent.plain.includes(data.name)" text="Plain LDAP" tone="error" /><Tag
                  v-if="faultOf(agent)"
                  text="Fails"
                  tone="error"
                />
                <p v-if="faultOf(agent)" class="quiet fails">
                  {{ t(faultOf(agent)?.title) }} since {{ when(faultOf(agent)?.since) }}: {{ faultOf(agent)?.detail }}.
                  It gets nothing more to do here while another agent is well, and is looked at again by itself.
                  <NButton
                    v-if="session.may('operator')"
                    size="tiny"
                    :loading="probing"
                    :disabled="agent.state !== 'online'"
                    @click="probe(agent.name)"
                    >Probe with {{ agent.name }}</NButton
                  >
                </p>
              </div>
              <template v-if="code">
                <p>
                  On the agent's host, before {{ when(code.expires) }}. The code is shown once; the password is asked
                  for there and stays there.
                </p>
                <pre class="mono commands">{{ commands }}</pre>
                <div class="row">
                  <NButton size="small" @click="copy(commands)">Copy</NButton
                  ><NButton size="small" @click="download">Save as a file</NButton>
                </div>
              </template>
            </div>
          </section>
          <section class="sheet">
            <header>
              <h2>Probe</h2>
              <span class="quiet">{{
                data.probe
                  ? t('of {0}{1}', when(data.probe.at), data.probe.agent ? t(' by {0}', data.probe.agent) : '')
                  : ''
              }}</span><NButton
                v-if="session.may('operator')"
                size="small"
                :loading="probing"
                :disabled="!online.length"
                @click="probe()"
                >Probe now</NButton
              >
            </header>
            <div class="body">
              <p v-if="!data.probe" class="quiet">
                {{
                  online.length
                    ? t(
                        'Not probed yet. An agent tries name, connection, TLS, sign-in, base, reading, changes, clock and rights, one by one.',
                      )
                    : t('The probe needs an agent that is online.')
                }}
              </p>
              <Verdicts v-else :verdicts="data.probe.verdicts" />
            </div>
          </section>
        </div>
        <div class="right">
          <section class="sheet">
            <header>
              <h2>Mirror</h2>
              <NButton v-if="session.may('operator')" size="small" :disabled="!online.length" @click="read"
                >Read now</NButton
              >
            </header>
            <dl class="facts body">
              <dt>Entries</dt>
              <dd>{{ data.entries.toLocaleString(language) }}</dd>
              <dt>Links</dt>
              <dd>{{ data.links.toLocaleString(language) }}</dd>
              <dt>Last read</dt>
              <dd>{{ when(data.lastRead) }}</dd>
            </dl>
            <div class="body top">
              <RouterLink :to="{ name: 'scope', query: { directory: data.name } }">Choose its containers</RouterLink>
            </div>
          </section>
          <section class="sheet">
            <header><h2>What Kambrel may do</h2></header>
            <div class="body">
              <p class="quiet">
                It always reads. Each feature beyond that needs rights in the directory, and the probe tries them. A
                change goes into the draft.
              </p>
              <div v-for="feature in features" :key="feature.value">
                <NCheckbox
                  :checked="data.features.includes(feature.value)"
                  :disabled="!session.may('administrator')"
                  @update:checked="(on: boolean) => setFeature(feature.value, on)"
                  >{{ feature.text }} <span class="quiet">({{ feature.means }})</span></NCheckbox
                >
              </div>
              <NButton size="small" class="rights" @click="showRights">Rights for its owner</NButton>
            </div>
          </section>
        </div>
      </div>
      <NModal
        :show="rights !== ''"
        preset="card"
        title="Rights to hand to the directory's owner"
        style="width: 900px"
        @update:show="(on: boolean) => !on && (rights = '')"
      >
        <pre class="mono text">{{ rights }}</pre>
        <NButton size="small" @click="copy(rights)">Copy</NButton>
      </NModal>
      <NModal
        :show="Boolean(removal)"
        preset="card"
        :title="t('Take {0} away', data.name)"
        style="width: 620px"
        @update:show="(on: boolean) => !on && (removal = null)"
      >
        <p>{{ removal?.text }}</p>
        <p>
          <label
            >Type <strong>{{ data.name }}</strong> to take it away:
            <NInput
              v-model:value="typed"
              size="small"
              style="width: 220px"
              :input-props="{ 'aria-label': t('The name of the directory') }"
          /></label>
        </p>
        <div class="row">
          <NButton size="small" type="error" :disabled="typed !== data.name" @click="remove"
            >Take away {{ removal?.links ? t('with {0}', count(removal.links, 'link')) : '' }}</NButton
          ><NButton size="small" @click="removal = null">Leave it</NButton>
        </div>
      </NModal>
    </template>
  </div>
</template>

<style scoped>
.steps {
  list-style: none;
  display: flex;
  flex-wrap: wrap;
  gap: 6px 22px;
  margin: 0 0 14px;
  padding: 0;
  color: var(--ink-3);
}
.steps li {
  display: flex;
  align-items: center;
  gap: 7px;
}
[data-done='true'] {
  color: var(--good);
}
[data-next='true'] {
  color: var(--ink);
  font-weight: 650;
}
.agent {
  margin-bottom: 4px;
}
.fails {
  flex-basis: 100%;
  overflow-wrap: anywhere;
}
.commands,
.text {
  background: color-mix(in srgb, var(--brass) 8%, transparent);
  padding: 9px 11px;
  border-radius: 5px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  margin: 6px 0 8px;
}
.text {
  max-height: 460px;
  overflow: auto;
}
p {
  margin: 0 0 8px;
}
.top {
  border-top: 1px solid var(--line);
}
.rights {
  margin-top: 10px;
}
</style>
