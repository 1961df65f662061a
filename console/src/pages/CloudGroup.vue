<script setup lang="ts">
// One group of the cloud in a directory: how it stands and why, its members and who is left
// out, what was changed there, and what can be done about it.
import { NButton, NDataTable, NInput, NModal, NSelect, NSkeleton, type DataTableColumns } from 'naive-ui'
import { computed, h, shallowRef } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Diffs from '../parts/Diffs.vue'
import Fault from '../parts/Fault.vue'
import Reasons from '../parts/Reasons.vue'
import Tabs from '../parts/Tabs.vue'
import Tag from '../parts/Tag.vue'
import Turn from '../parts/Turn.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useTyped } from '../parts/use-typed'
import { count, when } from '../parts/words'
import Drift from '../setup/Drift.vue'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'
import { groupStates, leftOutReasons } from './cloud-groups'

type Member = Schemas['CloudGroupMember']

const props = defineProps<{ directory: string; group: string }>()
const session = useSession()
const router = useRouter()
const view = useQuery<string>('view', 'members', 'cursor', 'text')
const text = useQuery<string>('text', '', 'cursor')
const cursor = useQuery<string>('cursor', '')
const typed = useTyped(text)
const path = computed(() => ({ directory: props.directory, group: props.group }))

const shown = useLoad(
  () => unwrap(api.GET('/api/v1/cloud-groups/{directory}/{group}', { params: { path: path.value } })),
  [path],
)
const members = useLoad(
  () =>
    unwrap(
      api.GET(
        view.value === 'left-out'
          ? '/api/v1/cloud-groups/{directory}/{group}/left-out'
          : '/api/v1/cloud-groups/{directory}/{group}/members',
        {
          params: {
            path: path.value,
            query: { text: text.value || undefined, cursor: cursor.value || undefined, limit: 25 },
          },
        },
      ),
    ),
  [path, view, text, cursor],
)
useLive().listen((event) => {
  if (['run', 'settings', ''].includes(event.kind)) {
    void shown.again()
    void members.again()
  }
})
const g = computed(() => shown.data.value)

const who = (m: Member) =>
  m.entryId || m.resourceId
    ? h(RouterLink, { to: { name: 'object', params: { id: m.entryId || m.resourceId } } }, () => m.name)
    : m.name
const columns = computed<DataTableColumns<Member>>(() =>
  view.value === 'left-out'
    ? [
        { title: t('Member in the cloud'), key: 'name', minWidth: 180, render: who },
        { title: t('Kind'), key: 'kind', width: 80 },
        {
          title: t('Reason'),
          key: 'reason',
          width: 180,
          render: (m) => leftOutReasons.find((r) => r.value === m.reason)?.label ?? m.reason,
        },
        { title: t('Why'), key: 'text', minWidth: 320 },
      ]
    : [
        { title: t('Member'), key: 'name', minWidth: 180, render: who },
        { title: t('Kind'), key: 'kind', width: 80 },
        { title: t('Entry'), key: 'dn', minWidth: 380, render: (m) => h('span', { class: 'mono small' }, m.dn) },
      ],
)

const { act, busy } = useAct()
async function attempt(write: boolean): Promise<void> {
  const run = await act(() =>
    unwrap(
      api.POST('/api/v1/cloud-groups/{directory}/{group}/trial', { params: { path: path.value }, body: { write } }),
    ),
  )
  if (run) await router.push({ name: 'run', params: { id: run.id } })
}
async function again(): Promise<void> {
  const run = await act(() =>
    unwrap(api.POST('/api/v1/cloud-groups/{directory}/{group}/decide-again', { params: { path: path.value } })),
  )
  if (run) await router.push({ name: 'run', params: { id: run.id } })
}

const handing = shallowRef<Schemas['HandedOver'] | null>(null)
const other = computed<'cloud' | 'directory'>(() => (g.value?.owner === 'cloud' ? 'directory' : 'cloud'))
async function handOver(really: boolean): Promise<void> {
  const to = other.value
  const out = await act(() =>
    unwrap(
      api.POST('/api/v1/cloud-groups/{directory}/{group}/hand-over', {
        params: { path: path.value },
        body: { to, do: really },
      }),
    ),
  )
  handing.value = really ? null : (out ?? null)
  if (really && out?.runId) await router.push({ name: 'run', params: { id: out.runId } })
}
</script>

<template>
  <div>
    <Fault v-if="shown.failure.value" :failure="shown.failure.value" @again="shown.again" />
    <NSkeleton v-else-if="!g" text :repeat="6" />
    <template v-else>
      <div class="page-head">
        <h1>{{ g.name }}</h1>
        <Tag v-bind="groupStates[g.state]" />
        <span class="quiet"
          >in <RouterLink :to="{ name: 'directory', params: { name: g.directory } }">{{ g.directory }}</RouterLink>,
          owned by the {{ g.owner }}</span
        >
        <span v-if="session.may('operator')" class="push row">
          <template v-if="g.owner === 'cloud'">
            <NButton size="small" :disabled="busy" @click="attempt(false)">Rehearse</NButton>
            <NButton v-if="!g.entryId" size="small" :disabled="busy" @click="attempt(true)"
              >Try with a few members</NButton
            >
          </template>
          <NButton v-if="g.kept.length || g.state === 'forgone'" size="small" :disabled="busy" @click="again"
            >Decide again</NButton
          >
          <NButton size="small" :disabled="busy" @click="handOver(false)">Hand over to the {{ other }}…</NButton>
        </span>
      </div>
      <p>{{ g.summary }}.</p>
      <div v-for="p in g.problems" :key="p.id" class="sheet trouble" role="alert">
        <strong>{{ t(p.title) }}</strong>: {{ p.detail }}
        <p class="quiet">{{ t(p.remedy) }}</p>
      </div>
      <dl class="facts">
        <template v-if="g.dn">
          <dt>Entry</dt>
          <dd class="mono">{{ g.dn }}</dd>
          <dt>Its id</dt>
          <dd class="mono">{{ g.entryId }}</dd>
        </template>
        <template v-if="g.sid">
          <dt>Security identifier</dt>
          <dd class="mono">{{ g.sid }}</dd>
        </template>
        <dt>Id in the cloud</dt>
        <dd class="mono">{{ g.id }}</dd>
        <dt>Members</dt>
        <dd>
          {{ g.entryId ? t('{0} there, ', g.members) : '' }}{{ g.inCloud }} in the cloud<template v-if="g.leftOut"
            >, <a href="#" @click.prevent="view = 'left-out'">{{ g.leftOut }} left out</a></template
          >
        </dd>
        <template v-if="g.due">
          <dt>Deleted there</dt>
          <dd>{{ when(g.due) }}</dd>
        </template>
        <template v-if="g.kept.length">
          <dt>Stay by somebody’s word</dt>
          <dd class="mono">{{ g.kept.join('; ') }}</dd>
        </template>
      </dl>
      <Tabs
        v-model="view"
        label="What to look at"
        :choices="[
          { value: 'members', text: t('Members there') },
          { value: 'left-out', text: t('Left out ({0})', g.leftOut) },
          { value: 'why', text: t('Why') },
          { value: 'drift', text: t('Changed there') },
        ]"
      />
      <div class="view">
        <template v-if="view === 'why'">
          <Reasons :nodes="g.steps" />
          <template v-if="g.diffs.length">
            <h2>What the next run changes</h2>
            <Diffs :diffs="g.diffs" />
          </template>
        </template>
        <Drift v-else-if="view === 'drift'" :directory="g.directory" :group="g.id" />
        <template v-else>
          <div class="row bar">
            <NInput
              v-model:value="typed"
              size="small"
              clearable
              placeholder="Name"
              style="width: 220px"
              :input-props="{ 'aria-label': t('Name contains'), type: 'search' }"
            />
            <NSelect
              v-if="view === 'left-out'"
              :value="leftOutReasons.some((r) => r.value === text) ? text : null"
              :options="leftOutReasons"
              clearable
              size="small"
              placeholder="Any reason"
              aria-label="Reason"
              style="width: 220px"
              @update:value="(reason: string | null) => (text = reason ?? '')"
            />
          </div>
          <Fault v-if="members.failure.value" :failure="members.failure.value" @again="members.again" />
          <template v-else>
            <NDataTable
              :columns="columns"
              :data="members.data.value?.items ?? []"
              :loading="members.loading.value && !members.data.value"
              :row-key="(m: Member) => m.resourceId || m.dn || m.name"
              size="small"
            >
              <template #empty>{{ view === 'left-out' ? t('Nobody is left out') : t('Nobody is in it') }}.</template>
            </NDataTable>
            <Turn v-model:cursor="cursor" :next="members.data.value?.next">
              <span class="quiet">{{ count(members.data.value?.total ?? 0, 'member') }}</span>
            </Turn>
          </template>
        </template>
      </div>
      <NModal
        :show="Boolean(handing)"
        preset="card"
        style="width: 760px"
        :title="t('Hand {0} over to the {1}', g.name, other)"
        @update:show="handing = null"
      >
        <template v-if="handing">
          <p>{{ handing.summary }}</p>
          <p v-for="warning in handing.warnings" :key="warning" class="warn">{{ warning }}</p>
          <Diffs v-if="handing.diffs.length" :diffs="handing.diffs" />
          <p v-else class="quiet">The next run changes nothing of it.</p>
          <div class="row end">
            <NButton size="small" @click="handing = null">Leave it</NButton>
            <NButton size="small" type="primary" :disabled="busy" @click="handOver(true)">Hand it over</NButton>
          </div>
        </template>
      </NModal>
    </template>
  </div>
</template>

<style scoped>
.facts {
  display: grid;
  grid-template-columns: 160px 1fr;
  gap: 3px 12px;
  margin: 10px 0 14px;
}
.facts dt {
  color: var(--ink-3);
}
.facts dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.trouble {
  padding: 8px 14px;
  margin-bottom: 8px;
  border-left: 3px solid var(--bad);
}
.trouble p {
  margin: 4px 0 0;
}
.view {
  margin-top: 12px;
}
.bar {
  display: flex;
  gap: 10px;
  margin-bottom: 8px;
}
.end {
  display: flex;
  justify-content: flex-end;
  gap: 8px;
  margin-top: 12px;
}
</style>
