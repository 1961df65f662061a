<script setup lang="ts">
// What somebody has changed of groups in directories, and runs have put back.
import { NDataTable, type DataTableColumns } from 'naive-ui'
import { h, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Turn from '../parts/Turn.vue'
import { useLoad } from '../parts/use-load'
import { count, show, when } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'

type One = Schemas['Drift']

const props = defineProps<{ directory: string; group?: string }>()
const cursor = ref('')
const list = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/cloud-groups/drift', {
        params: {
          query: {
            directory: props.directory || undefined,
            group: props.group,
            cursor: cursor.value || undefined,
            limit: 25,
          },
        },
      }),
    ),
  [cursor, () => props.directory, () => props.group],
)
useLive().listen((event) => {
  if (event.kind === 'run' || event.kind === '') void list.again()
})

const names = (members: Schemas['Member'][] | undefined) => (members ?? []).map((m) => m.name || m.value)
const most = 8
/** One attribute in a line: what was found, and what was put back. */
function line(diff: Schemas['Diff']) {
  const members = [
    ...names(diff.removed).map((name) => h('div', [h('span', { class: 'bad' }, '− '), t('{0}, removed again', name)])),
    ...names(diff.added).map((name) => h('div', [h('span', { class: 'good' }, '+ '), t('{0}, added again', name)])),
  ]
  if (members.length > most)
    return [...members.slice(0, most), h('div', { class: 'quiet' }, t('and {0} more', members.length - most))]
  if (members.length) return members
  return h('div', [
    h('span', { class: 'mono small' }, diff.target),
    ': ',
    h('span', { class: 'bad' }, show(diff.before) || '(nothing)'),
    ' → ',
    h('span', { class: 'good' }, show(diff.after) || '(nothing)'),
  ])
}

const columns: DataTableColumns<One> = [
  { title: t('Put back'), key: 'at', width: 110, render: (d) => (d.at ? when(d.at) : d.state) },
  {
    title: t('Group'),
    key: 'name',
    width: 180,
    render: (d) => [
      h(
        RouterLink,
        { to: { name: 'cloud-group', params: { directory: d.directory, group: d.groupId } } },
        () => d.name,
      ),
      h('div', { class: 'quiet' }, d.directory),
    ],
  },
  { title: t('Found, and put back'), key: 'diffs', minWidth: 360, render: (d) => (d.diffs ?? []).map(line) },
  {
    title: t('Changed there'),
    key: 'by',
    width: 260,
    render: (d) => [
      d.changed ? when(d.changed) : '',
      h('div', { class: d.by ? 'mono small' : 'quiet' }, d.by || t('the directory does not say by whom')),
    ],
  },
  {
    title: t('Run'),
    key: 'runId',
    width: 70,
    render: (d) => h(RouterLink, { to: { name: 'run', params: { id: d.runId } } }, () => String(d.runId)),
  },
]
</script>

<template>
  <div class="drift">
    <Fault v-if="list.failure.value" :failure="list.failure.value" @again="list.again" />
    <template v-else>
      <NDataTable
        :columns="columns"
        :data="list.data.value?.items ?? []"
        :loading="list.loading.value && !list.data.value"
        :row-key="(d: One) => d.id"
        size="small"
      >
        <template #empty>Nobody has changed {{ group ? t('this group') : t('these groups') }} in a directory.</template>
      </NDataTable>
      <Turn v-model:cursor="cursor" :next="list.data.value?.next">
        <span class="quiet">{{ count(list.data.value?.total ?? 0, 'change') }} put back by runs</span>
      </Turn>
    </template>
  </div>
</template>

<style scoped>
.drift {
  margin-top: 12px;
}
</style>
