<script setup lang="ts">
// Groups of the cloud that are kept in directories: how they stand, what somebody has
// changed there, and the settings by which they are kept.
import { NDataTable, NInput, NSelect, NSkeleton, type DataTableColumns } from 'naive-ui'
import { computed, h } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tabs from '../parts/Tabs.vue'
import Tag from '../parts/Tag.vue'
import Turn from '../parts/Turn.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useTyped } from '../parts/use-typed'
import { count, when } from '../parts/words'
import Drift from '../setup/Drift.vue'
import Keeping from '../setup/Keeping.vue'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { groupStates } from './cloud-groups'

type Group = Schemas['CloudGroup']

const view = useQuery<string>('view', 'groups', 'cursor')
const directory = useQuery<string>('directory', '', 'cursor')
const show = useQuery<string>('show', 'kept', 'cursor')
const text = useQuery<string>('text', '', 'cursor')
const cursor = useQuery<string>('cursor', '')
const typed = useTyped(text)

const directories = useLoad(() => unwrap(api.GET('/api/v1/cloud-groups/directories')), [])
const groups = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/cloud-groups', {
        params: {
          query: {
            directory: directory.value || undefined,
            show: show.value as 'kept',
            text: text.value || undefined,
            cursor: cursor.value || undefined,
            limit: 25,
          },
        },
      }),
    ),
  [directory, show, text, cursor],
)
useLive().listen((event) => {
  if (['run', 'settings', 'problem', ''].includes(event.kind)) {
    void directories.again()
    void groups.again()
  }
})
const on = computed(() => (directories.data.value ?? []).filter((d) => d.on))
const columns: DataTableColumns<Group> = [
  {
    title: t('Group'),
    key: 'name',
    minWidth: 170,
    render: (g) =>
      h(RouterLink, { to: { name: 'cloud-group', params: { directory: g.directory, group: g.id } } }, () => g.name),
  },
  { title: t('State'), key: 'state', width: 120, render: (g) => h(Tag, groupStates[g.state]) },
  {
    title: t('Members there'),
    key: 'members',
    width: 120,
    render: (g) =>
      g.entryId ? t('{0} of {1}', g.members, g.inCloud) : h('span', { class: 'quiet' }, t('{0} in cloud', g.inCloud)),
  },
  { title: t('Directory'), key: 'directory', width: 95 },
  {
    title: t('Entry, and what is with it'),
    key: 'summary',
    minWidth: 340,
    render: (g) => [
      g.problem ? h('div', { class: 'bad' }, g.problem) : null,
      g.state === 'in-step' || g.problem ? null : h('div', { class: 'quiet' }, g.summary),
      g.dn ? h('div', { class: 'mono small' }, g.dn) : null,
    ],
  },
  {
    title: t('Put back'),
    key: 'drifted',
    width: 100,
    render: (g) => (g.drifted ? when(g.drifted) : h('span', { class: 'quiet' }, 'never')),
  },
]
const shows = [
  { label: t('Kept'), value: 'kept' },
  { label: t('With problems'), value: 'problems' },
  { label: t('Leaving'), value: 'leaving' },
  { label: t('Changed there'), value: 'drift' },
  { label: t('Not kept'), value: 'other' },
  { label: t('All groups of the cloud'), value: 'all' },
]
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Cloud groups</h1>
      <span class="quiet"
        >Groups that are made in the cloud, kept in a directory with those members who are there. The cloud owns
        them.</span
      >
    </div>
    <Tabs
      v-model="view"
      label="What to look at"
      :choices="[
        { value: 'groups', text: t('Groups') },
        { value: 'drift', text: t('Changed in directories') },
        { value: 'settings', text: t('How they are kept') },
      ]"
    />
    <Keeping v-if="view === 'settings'" v-model:directory="directory" />
    <Drift v-else-if="view === 'drift'" :directory="directory" />
    <template v-else>
      <Fault v-if="directories.failure.value" :failure="directories.failure.value" @again="directories.again" />
      <NSkeleton v-else-if="!directories.data.value" text :repeat="3" />
      <section v-else-if="!on.length" class="sheet empty">
        <p>
          No directory keeps groups of the cloud. Groups that grant access to what stands on-premises can be made in the
          cloud, and appear in one container of a directory with an identity that stays.
        </p>
        <a href="#" @click.prevent="view = 'settings'">Say where they are kept</a>
      </section>
      <template v-else>
        <section class="where" aria-label="Directories">
          <div v-for="d in on" :key="d.name" class="sheet one">
            <h2>
              {{ d.name }}
              <Tag
                v-bind="
                  d.problems
                    ? { text: count(d.problems, 'problem'), tone: 'error' }
                    : d.waiting
                      ? { text: `${d.waiting} wait for the next run`, tone: 'info' }
                      : { text: 'in step', tone: 'success' }
                "
              />
            </h2>
            <p class="mono small">{{ d.container }}</p>
            <p class="quiet">
              {{ count(d.kept, 'group') }} kept{{ d.leaving ? t(', {0} leaving', d.leaving) : '' }};
              {{
                d.drifted ? t('{0} put back in 7 days', count(d.drifted, 'change')) : t('nothing put back in 7 days')
              }}
            </p>
          </div>
        </section>
        <div class="row bar">
          <NSelect v-model:value="show" :options="shows" size="small" style="width: 200px" aria-label="Which groups" />
          <NSelect
            v-if="on.length > 1"
            :value="directory || null"
            :options="on.map((d) => ({ label: d.name, value: d.name }))"
            clearable
            size="small"
            placeholder="All directories"
            aria-label="Directory"
            style="width: 160px"
            @update:value="(name: string | null) => (directory = name ?? '')"
          />
          <NInput
            v-model:value="typed"
            size="small"
            clearable
            placeholder="Name or id"
            style="width: 220px"
            :input-props="{ 'aria-label': t('Name contains'), type: 'search' }"
          />
        </div>
        <Fault v-if="groups.failure.value" :failure="groups.failure.value" @again="groups.again" />
        <template v-else>
          <NDataTable
            :columns="columns"
            :data="groups.data.value?.items ?? []"
            :loading="groups.loading.value && !groups.data.value"
            :row-key="(g: Group) => g.directory + '/' + g.id"
            size="small"
          >
            <template #empty>No group {{ text || show !== 'kept' ? t('fits') : t('is kept yet') }}.</template>
          </NDataTable>
          <Turn v-model:cursor="cursor" :next="groups.data.value?.next">
            <span class="quiet">{{ count(groups.data.value?.total ?? 0, 'group') }}</span>
          </Turn>
        </template>
      </template>
    </template>
  </div>
</template>

<style scoped>
.where {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(300px, 1fr));
  gap: 12px;
  margin: 12px 0;
}
.one {
  padding: 10px 14px;
}
.one h2 {
  display: flex;
  gap: 10px;
  align-items: center;
}
.one p {
  margin: 4px 0 0;
}
.bar {
  display: flex;
  gap: 10px;
  margin: 4px 0 8px;
}
</style>
