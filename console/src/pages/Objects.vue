<script setup lang="ts">
import { NDataTable, NInput, NPagination, NSelect, type DataTableColumns, type DataTableSortState } from 'naive-ui'
import { computed, h } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Hit } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { useTyped } from '../parts/use-typed'
import { counted, objectStates, objectWord } from '../parts/words'
import { t } from '../state/language'

type Sort = '' | 'name' | '-name' | 'login' | '-login' | 'state' | '-state'

const pageSize = 50
const text = useQuery<string>('text', '', 'page')
const state = useQuery<Hit['state'] | ''>('state', '', 'page')
const kind = useQuery<Hit['kind'] | ''>('kind', 'user', 'page')
const sort = useQuery<Sort>('sort', '', 'page')
const page = useQuery<string>('page', '1')
const typed = useTyped(text)

const { data, failure, loading, again } = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/objects', {
        params: {
          query: {
            text: text.value || undefined,
            state: state.value || undefined,
            kind: kind.value || undefined,
            sort: sort.value || undefined,
            limit: pageSize,
            cursor: page.value === '1' ? undefined : String((Number(page.value) - 1) * pageSize),
          },
        },
      }),
    ),
  [text, state, kind, sort, page],
)

const order = (key: string) =>
  (sort.value === key ? 'ascend' : sort.value === '-' + key ? 'descend' : false) as 'ascend' | 'descend' | false
const columns = computed<DataTableColumns<Hit>>(() => [
  {
    title: t('Name'),
    key: 'name',
    sorter: true,
    sortOrder: order('name'),
    width: 210,
    render: (hit) =>
      h(RouterLink, { to: { name: 'object', params: { id: hit.entryId || hit.resourceId || '' } } }, () => hit.name),
  },
  {
    title: t('Login'),
    key: 'login',
    sorter: true,
    sortOrder: order('login'),
    width: 260,
    render: (hit) => hit.login ?? '',
  },
  {
    title: t('State'),
    key: 'state',
    sorter: true,
    sortOrder: order('state'),
    width: 130,
    render: (hit) =>
      h(
        'span',
        { title: objectWord(hit.state).means },
        h(Tag, { text: objectWord(hit.state).text, tone: objectWord(hit.state).tone }),
      ),
  },
  {
    title: t('In the directory'),
    key: 'dn',
    ellipsis: { tooltip: false },
    render: (hit) =>
      hit.dn ? h('span', { class: 'quiet mono', title: hit.dn }, hit.dn) : h('span', { class: 'quiet' }, 'none'),
  },
])
const kinds = [
  { label: t('Users'), value: 'user' },
  { label: t('Groups'), value: 'group' },
  { label: t('Contacts'), value: 'contact' },
  { label: t('All kinds'), value: '' },
]
const states = [{ label: t('All states'), value: '' }, ...objectStates]

function sorted(by: DataTableSortState | null): void {
  sort.value = (by?.order ? (by.order === 'descend' ? '-' : '') + String(by.columnKey) : '') as Sort
}
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Objects</h1>
      <NInput
        v-model:value="typed"
        clearable
        size="small"
        style="width: 380px"
        placeholder="Name, login, address, id, or (title=Mate)"
        :input-props="{ 'aria-label': t('Search objects'), type: 'search' }"
      />
      <NSelect v-model:value="kind" :options="kinds" size="small" style="width: 120px" aria-label="Kind" />
      <NSelect v-model:value="state" :options="states" size="small" style="width: 150px" aria-label="State" />
      <span class="quiet push" role="status">{{ counted(data, 'object') }}</span>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <template v-else>
      <NDataTable
        remote
        :columns="columns"
        :data="data?.items ?? []"
        :loading="loading && !data"
        :row-key="(hit: Hit) => hit.entryId || hit.resourceId || ''"
        size="small"
        @update:sorter="sorted"
      >
        <template #empty>{{
          text || state
            ? t('Nothing fits. Part of a name is enough; an id is understood as UUID, hex or base64.')
            : t('The mirrors are empty. The first run fills them.')
        }}</template>
      </NDataTable>
      <div class="row foot">
        <NPagination
          v-if="(data?.total ?? 0) > pageSize"
          :page="Number(page)"
          :page-size="pageSize"
          :item-count="data?.total ?? 0"
          @update:page="(n: number) => (page = String(n))"
        />
      </div>
    </template>
  </div>
</template>

<style scoped>
.foot {
  margin-top: 12px;
  justify-content: flex-end;
}
</style>
