<script setup lang="ts">
// How passwords come from the cloud into directories: the way step by step, and what was
// asked last.
import { NButton, NCheckbox, NDataTable, NInput, NSelect, NSkeleton, type DataTableColumns } from 'naive-ui'
import { computed, h, ref, shallowRef, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Rights from '../parts/Rights.vue'
import Step from '../parts/Step.vue'
import Tag from '../parts/Tag.vue'
import Turn from '../parts/Turn.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { count, when, type Tone } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

type PasswordEvent = Schemas['PasswordEvent']

const session = useSession()
const cursor = useQuery<string>('cursor', '')
const directory = useQuery<string>('directory', '')
const failed = useQuery<string>('failed', '')
const state = useLoad(() => unwrap(api.GET('/api/v1/passwords')), [])
const events = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/passwords/events', {
        params: {
          query: {
            limit: 25,
            cursor: cursor.value || undefined,
            directory: directory.value || undefined,
            failed: failed.value === 'yes',
          },
        },
      }),
    ),
  [cursor, directory, failed],
)
const live = useLive()
live.listen((event) => {
  if (['password', 'digest', 'agent', 'settings', ''].includes(event.kind)) {
    void state.again()
    void events.again()
  }
})

// An agent that falls silent makes no event; the state of everything is read now and then.
watch(
  () => live.health,
  () => void state.again(),
)

const words: Record<Schemas['PasswordsState']['state'], { text: string; tone: Tone }> = {
  off: { text: t('Off'), tone: 'default' },
  open: { text: t('Open'), tone: 'success' },
  partly: { text: t('Partly open'), tone: 'warning' },
  closed: { text: t('Closed'), tone: 'error' },
}
const s = computed(() => state.data.value)
const named = computed(() => (s.value?.directories ?? []).map((d) => ({ label: d.name, value: d.name })))

const person = ref('')
const trying = ref(false)
const trial = shallowRef<Schemas['PasswordTrial'] | null>(null)
const { act } = useAct()
async function attempt(): Promise<void> {
  trying.value = true
  trial.value = (await act(() => unwrap(api.POST('/api/v1/passwords/try', { body: { person: person.value } })))) ?? null
  trying.value = false
}

async function pause(name: string, on: boolean): Promise<void> {
  await act(() =>
    unwrap(
      api.POST(on ? '/api/v1/passwords/digests/{name}/pause' : '/api/v1/passwords/digests/{name}/resume', {
        params: { path: { name } },
      }),
    ),
  )
  await state.again()
}

const isRight = (step: Schemas['PasswordStep']) => step.name.startsWith('right ')
const acts = { reset: t('Reset'), change: t('Change'), unlock: t('Unlock') }
const columns: DataTableColumns<PasswordEvent> = [
  { title: t('Received'), key: 'received', width: 90, render: (e) => when(e.received) },
  {
    title: t('Person'),
    key: 'person',
    minWidth: 130,
    render: (e) => h(RouterLink, { to: { name: 'object', params: { id: e.entryId } } }, () => e.person || e.entryId),
  },
  {
    title: t('Asked'),
    key: 'act',
    width: 160,
    render: (e) => [acts[e.act], h('span', { class: 'quiet' }, t(' by the {0}', e.by))],
  },
  { title: t('Directory'), key: 'directory', width: 85 },
  {
    title: t('Result'),
    key: 'reason',
    minWidth: 270,
    render: (e) => {
      if (!e.ended) return h('span', { class: 'quiet' }, t('on its way'))
      if (e.done) return h('span', { class: 'good' }, e.detail ? t('done: {0}', e.detail) : 'done')
      return [h('span', { class: 'bad' }, e.text), h('div', { class: 'quiet' }, t('Told: “{0}”', e.told))]
    },
  },
  {
    title: t('Took'),
    key: 'millis',
    width: 200,
    render: (e) =>
      e.ended
        ? [
            `${e.millis} ms`,
            e.directoryMillis ? h('span', { class: 'quiet' }, t(', {0} in the directory', e.directoryMillis)) : '',
          ]
        : '',
  },
  { title: t('Agent'), key: 'agent', width: 100 },
]
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Passwords</h1>
      <Tag v-if="s" v-bind="words[s.state]" />
      <span v-if="s" class="quiet">{{ s.summary }}</span>
      <RouterLink v-if="s?.state === 'off'" class="push" :to="{ name: 'directories' }">Switch it on</RouterLink>
    </div>
    <Fault v-if="state.failure.value" :failure="state.failure.value" @again="state.again" />
    <NSkeleton v-else-if="!s" text :repeat="5" />
    <template v-else>
      <p v-if="s.state === 'off'" class="quiet">
        Who resets or changes a password in the cloud could be told within a second whether the directory took it. The
        password would travel sealed for the directory’s agents; this service cannot read it.
      </p>
      <section v-else class="way" aria-label="The way from the cloud to the directories">
        <div class="stage">
          <h2>Cloud</h2>
          <Step :step="s.stream" title="Stream of events" />
        </div>
        <div class="stage">
          <h2>Service</h2>
          <Step :step="s.service" title="Listens" />
        </div>
        <div class="stage last">
          <div v-for="d in s.directories" :key="d.name" class="branch">
            <h2>
              <RouterLink :to="{ name: 'directory', params: { name: d.name } }">{{ d.name }}</RouterLink>
            </h2>
            <div class="steps">
              <Step v-for="step in d.steps.filter((one) => !isRight(one))" :key="step.name" :step="step" />
              <Rights v-if="d.steps.some(isRight)" :steps="d.steps.filter(isRight)" />
            </div>
          </div>
        </div>
      </section>
      <section v-if="s.digests.length" class="digests" aria-label="Sign-in with the directory's password">
        <h2>Sign-in to the cloud with the directory’s password</h2>
        <div class="steps">
          <div v-for="d in s.digests" :key="d.directory">
            <Step :step="d.step" :title="d.directory" />
            <div v-if="session.may('administrator') && (d.due || d.pausedBy)" class="row pause">
              <NButton v-if="d.pausedBy" size="tiny" @click="pause(d.directory, false)">Go on</NButton>
              <NButton v-else size="tiny" @click="pause(d.directory, true)">Pause</NButton>
            </div>
          </div>
        </div>
      </section>
      <p v-if="s.refusedAt" class="warn">
        {{ count(s.refused, 'event') }} not taken so far, the last {{ when(s.refusedAt) }}: {{ s.refusedFor }}.
      </p>
      <section v-if="s.state !== 'off' && session.may('operator')" class="sheet try">
        <form class="row" @submit.prevent="attempt">
          <label for="person">Try the whole way for</label>
          <NInput
            v-model:value="person"
            :input-props="{ id: 'person' }"
            placeholder="a name, login or address"
            size="small"
            style="width: 280px"
          />
          <NButton attr-type="submit" size="small" :loading="trying" :disabled="!person">Try</NButton>
          <span class="quiet">Nothing is set.</span>
        </form>
        <div v-if="trial" class="steps" aria-live="polite">
          <p>
            <strong>{{ trial.person }}</strong>, in {{ trial.directory }}
          </p>
          <Step v-for="step in trial.steps" :key="step.name" :step="step" />
        </div>
      </section>
    </template>
    <div class="page-head events">
      <h2>What was asked</h2>
      <span v-if="s" class="quiet"
        >In the last 24 hours {{ s.today.done }} done{{
          s.today.done ? t(', half within {0} ms and 95 of 100 within {1} ms', s.today.median, s.today.slow) : ''
        }}; {{ s.today.policy }} refused by a directory’s policy; {{ s.today.refused }} not done otherwise.</span
      >
      <span class="push row">
        <NCheckbox
          :checked="failed === 'yes'"
          @update:checked="
            (on: boolean) => {
              failed = on ? 'yes' : ''
              cursor = ''
            }
          "
          >Only what was not done</NCheckbox
        >
        <NSelect
          v-if="named.length > 1"
          :value="directory || null"
          :options="named"
          clearable
          size="small"
          placeholder="All directories"
          aria-label="Directory"
          style="width: 160px"
          @update:value="
            (name: string | null) => {
              directory = name ?? ''
              cursor = ''
            }
          "
        />
      </span>
    </div>
    <Fault v-if="events.failure.value" :failure="events.failure.value" @again="events.again" />
    <template v-else>
      <NDataTable
        :columns="columns"
        :data="events.data.value?.items ?? []"
        :loading="events.loading.value && !events.data.value"
        :row-key="(e: PasswordEvent) => e.id"
        size="small"
      >
        <template #empty>Nothing was asked{{ failed || directory ? t(' that fits') : t(' so far') }}.</template>
      </NDataTable>
      <Turn v-model:cursor="cursor" :next="events.data.value?.next">
        <span class="quiet">{{ count(events.data.value?.total ?? 0, 'event') }}; a password is never kept</span>
      </Turn>
    </template>
  </div>
</template>

<style scoped>
.way {
  display: grid;
  grid-template-columns: 220px 220px 1fr;
  gap: 34px;
}
.stage {
  position: relative;
}
.stage h2,
.branch h2 {
  margin-bottom: 6px;
}
.stage + .stage::before {
  content: '→';
  position: absolute;
  left: -26px;
  top: 34px;
  font-size: 20px;
  color: var(--ink-3);
}
.branch + .branch {
  margin-top: 12px;
}
.steps {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(250px, 1fr));
  gap: 6px;
}
.digests {
  margin-top: 14px;
}
.digests h2 {
  margin-bottom: 6px;
}
.pause {
  margin-top: 4px;
}
.try {
  margin-top: 14px;
  padding: 10px 14px;
}
.try .steps {
  margin-top: 8px;
}
.try .steps p {
  grid-column: 1 / -1;
  margin: 0;
}
.row {
  display: flex;
  align-items: center;
  gap: 10px;
}
.events {
  margin-top: 18px;
}
@media (max-width: 1000px) {
  .way {
    grid-template-columns: 1fr;
    gap: 14px;
  }
  .stage + .stage::before {
    display: none;
  }
}
</style>
