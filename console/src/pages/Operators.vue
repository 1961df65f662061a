<script setup lang="ts">
// Who can sign in, who is signed in from where, and by which tokens programs come.
import {
  NAlert,
  NButton,
  NCheckbox,
  NDataTable,
  NForm,
  NFormItem,
  NInput,
  NInputNumber,
  NModal,
  NPopconfirm,
  NSelect,
  useMessage,
  type DataTableColumns,
} from 'naive-ui'
import { computed, h, reactive, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { count, when } from '../parts/words'
import { t } from '../state/language'
import { useSession } from '../state/session'

type Role = Schemas['Operator']['role']

const roles = [
  { label: t('viewer: sees everything'), value: 'viewer' },
  { label: t('operator: runs, decides, repairs'), value: 'operator' },
  { label: t('administrator: settings, directories, operators'), value: 'administrator' },
]
const session = useSession()
const message = useMessage()
const { busy, act } = useAct()
const { data, failure, loading, again } = useLoad(async () => {
  const [operators, groups, sessions, tokens] = await Promise.all([
    unwrap(api.GET('/api/v1/operators')),
    unwrap(api.GET('/api/v1/operator-groups')),
    unwrap(api.GET('/api/v1/sessions')),
    unwrap(api.GET('/api/v1/tokens')),
  ])
  return { operators, groups, sessions, tokens }
}, [])

/** Does something, says so, and looks again. */
async function change(work: () => Promise<unknown>, said: string): Promise<boolean> {
  const done = await act(async () => {
    await work()
    return true
  })
  if (done) message.success(said)
  await again()
  return Boolean(done)
}

const adds = ref(false)
const person = reactive({ name: '', role: 'viewer' as Role, password: '', emergency: false })
async function add(): Promise<void> {
  const { name, role, password, emergency } = person
  if (
    await change(
      () => unwrap(api.POST('/api/v1/operators', { body: { name, role, password, emergency } })),
      t('{0} can sign in, as {1}.', name, role),
    )
  ) {
    adds.value = false
    Object.assign(person, { name: '', role: 'viewer', password: '', emergency: false })
  }
}

const renews = ref('')
const renewed = ref('')
async function renew(): Promise<void> {
  const name = renews.value
  const body = { password: renewed.value }
  if (
    await change(
      () => unwrap(api.PUT('/api/v1/operators/{name}/password', { params: { path: { name } }, body })),
      t('{0} has a new password, and all sessions have ended.', name),
    )
  ) {
    renews.value = renewed.value = ''
  }
}

const lets = ref(false)
const group = reactive({ group: '', role: 'viewer' as Role })
async function admit(): Promise<void> {
  const { role } = group
  if (
    await change(
      () => unwrap(api.POST('/api/v1/operator-groups', { body: { ...group } })),
      t('Its members sign in as {0}.', role),
    )
  ) {
    lets.value = false
    Object.assign(group, { group: '', role: 'viewer' })
  }
}

const makes = ref(false)
const token = reactive({ name: '', role: 'viewer' as Role, purpose: '', days: 365 })
const secret = ref<Schemas['Token'] | null>(null)
async function make(): Promise<void> {
  const made = await act(() => unwrap(api.POST('/api/v1/tokens', { body: { ...token } })))
  await again()
  if (!made) return
  makes.value = false
  secret.value = made
  Object.assign(token, { name: '', role: 'viewer', purpose: '', days: 365 })
}
const whole = computed(() => /^[a-z][a-z0-9.-]{0,62}$/.test(person.name) && person.password.length >= 10)

const sure = (label: string, question: string, yes: () => void) =>
  h(
    NPopconfirm,
    { onPositiveClick: yes },
    { trigger: () => h(NButton, { size: 'tiny', disabled: busy.value }, () => label), default: () => question },
  )

const operators: DataTableColumns<Schemas['Operator']> = [
  {
    title: t('Name'),
    key: 'name',
    minWidth: 140,
    render: (o) => (o.emergency ? [o.name, ' ', h(Tag, { text: t('for emergencies'), tone: 'warning' })] : o.name),
  },
  {
    title: t('Role'),
    key: 'role',
    width: 230,
    render: (o) =>
      h(NSelect, {
        size: 'tiny',
        value: o.role,
        options: roles,
        disabled: busy.value,
        inputProps: { 'aria-label': t('Role of {0}', o.name) },
        onUpdateValue: (role: Role) =>
          void change(
            () =>
              unwrap(api.PUT('/api/v1/operators/{name}/role', { params: { path: { name: o.name } }, body: { role } })),
            t('{0} is {1} from now on.', o.name, role),
          ),
      }),
  },
  {
    title: t('Second factor'),
    key: 'secondFactor',
    width: 130,
    render: (o) =>
      o.secondFactor
        ? h('div', { class: 'row' }, [
            'yes',
            sure(t('Take away'), t('{0} signs in by the password alone.', o.name), () => {
              void change(
                () => unwrap(api.DELETE('/api/v1/operators/{name}/factor', { params: { path: { name: o.name } } })),
                t('{0} has no second factor any more.', o.name),
              )
            }),
          ])
        : '–',
  },
  { title: t('Sessions'), key: 'sessions', width: 80, render: (o) => (o.sessions ? String(o.sessions) : '–') },
  { title: t('Last used'), key: 'used', width: 130, render: (o) => (o.used ? when(o.used) : '–') },
  { title: t('Since'), key: 'created', width: 130, render: (o) => when(o.created) },
  {
    title: '',
    key: 'act',
    width: 210,
    render: (o) =>
      h('div', { class: 'row' }, [
        h(NButton, { size: 'tiny', onClick: () => (renews.value = o.name) }, () => t('New password…')),
        o.name === session.who?.name
          ? null
          : sure(t('Remove'), t('{0} can no longer sign in, and all their sessions end at once.', o.name), () => {
              void change(
                () => unwrap(api.DELETE('/api/v1/operators/{name}', { params: { path: { name: o.name } } })),
                t('{0} is removed.', o.name),
              )
            }),
      ]),
  },
]

const groups: DataTableColumns<Schemas['OperatorGroup']> = [
  {
    title: t('Group'),
    key: 'dn',
    minWidth: 260,
    render: (g) =>
      g.gone
        ? [g.dn || g.entryId, ' ', h(Tag, { text: t('not in the directory any more'), tone: 'warning' })]
        : h(RouterLink, { to: { name: 'object', params: { id: g.entryId } } }, () => g.dn),
  },
  { title: t('Directory'), key: 'directory', width: 130 },
  { title: t('Members are'), key: 'role', width: 130 },
  { title: t('Added by'), key: 'createdBy', width: 130 },
  { title: t('Since'), key: 'created', width: 150, render: (g) => when(g.created) },
  {
    title: '',
    key: 'act',
    width: 90,
    render: (g) =>
      sure(t('Remove'), t('Its members sign in no more, and their sessions end with the next request.'), () => {
        void change(
          () =>
            unwrap(
              api.DELETE('/api/v1/operator-groups/{directory}/{entryId}', {
                params: { path: { directory: g.directory, entryId: g.entryId } },
              }),
            ),
          t('Its members sign in no more.'),
        )
      }),
  },
]

const sessions: DataTableColumns<Schemas['OpenSession']> = [
  {
    title: t('Operator'),
    key: 'name',
    minWidth: 140,
    render: (s) => [s.name, s.own ? h('span', { class: 'quiet' }, t(' (this one)')) : ''],
  },
  { title: t('Role'), key: 'role', width: 130 },
  { title: t('Last used'), key: 'used', width: 150, render: (s) => (s.used ? when(s.used) : '–') },
  { title: t('From'), key: 'from', width: 150, render: (s) => s.from ?? '–' },
  { title: t('Signed in'), key: 'created', width: 150, render: (s) => when(s.created) },
  { title: t('Ends'), key: 'expires', width: 175, render: (s) => when(s.expires) },
  {
    title: '',
    key: 'act',
    width: 90,
    render: (s) =>
      s.own
        ? null
        : sure(t('End'), t('{0} is signed out there at once.', s.name), () => {
            void change(
              () => unwrap(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id: s.id } } })),
              t('The session has ended.'),
            )
          }),
  },
]

const tokens: DataTableColumns<Schemas['Token']> = [
  { title: t('Name'), key: 'name', minWidth: 120 },
  {
    title: t('For'),
    key: 'purpose',
    minWidth: 180,
    render: (token) => token.purpose || h('span', { class: 'quiet' }, t('not said')),
  },
  { title: t('Role'), key: 'role', width: 130 },
  {
    title: t('Last used'),
    key: 'used',
    width: 150,
    render: (token) => (token.used ? when(token.used) : h('span', { class: 'quiet' }, 'never')),
  },
  { title: t('From'), key: 'from', width: 110, render: (token) => token.from || '–' },
  { title: t('Made by'), key: 'createdBy', width: 120 },
  { title: t('Ends'), key: 'expires', width: 175, render: (token) => when(token.expires) },
  {
    title: '',
    key: 'act',
    width: 90,
    render: (token) =>
      sure(t('End'), t('Whatever uses {0} is refused from the next request on.', token.name), () => {
        void change(
          () => unwrap(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: token.id } } })),
          t('The token {0} has ended.', token.name),
        )
      }),
  },
]
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Operators</h1>
      <span class="quiet">Who signs in to Kambrel, and by which tokens programs come.</span>
      <span class="push" />
      <NButton size="small" @click="adds = true">Add operator…</NButton>
      <NButton size="small" @click="lets = true">Let a group sign in…</NButton>
      <NButton size="small" @click="makes = true">Make token…</NButton>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <template v-else>
      <NAlert
        v-if="secret"
        type="success"
        closable
        :title="t('The token {0}, shown this once', secret.name)"
        class="gap"
        @close="secret = null"
      >
        <code class="secret">{{ secret.secret }}</code>
        <p class="quiet">It is {{ secret.role }} until {{ when(secret.expires) }}. Only a hash of it is kept.</p>
      </NAlert>
      <NDataTable
        :columns="operators"
        :data="data?.operators ?? []"
        :loading="loading && !data"
        :row-key="(o: Schemas['Operator']) => o.name"
        table-layout="fixed"
        size="small"
      />
      <h2>Groups of directories</h2>
      <NDataTable
        :columns="groups"
        :data="data?.groups ?? []"
        :loading="loading && !data"
        :row-key="(g: Schemas['OperatorGroup']) => g.directory + g.entryId"
        size="small"
      >
        <template #empty>Nobody signs in by a directory: let a group of one sign in.</template>
      </NDataTable>
      <h2>Sessions</h2>
      <NDataTable
        :columns="sessions"
        :data="data?.sessions ?? []"
        :loading="loading && !data"
        :row-key="(s: Schemas['OpenSession']) => s.id"
        size="small"
      />
      <h2>Tokens</h2>
      <NDataTable
        :columns="tokens"
        :data="data?.tokens ?? []"
        :loading="loading && !data"
        :row-key="(t: Schemas['Token']) => t.id"
        size="small"
      >
        <template #empty>No program has a token.</template>
      </NDataTable>
      <p class="quiet">
        {{ count(data?.operators.length ?? 0, 'operator') }}. A role counts from the next request on; each act is in the
        audit.
      </p>
    </template>
    <NModal v-model:show="adds" preset="card" title="Add an operator" style="width: 460px">
      <NForm @submit.prevent="add">
        <NFormItem label="Name" :label-props="{ for: 'operator-name' }">
          <NInput
            v-model:value="person.name"
            placeholder=""
            :input-props="{ id: 'operator-name', autocomplete: 'off' }"
          />
        </NFormItem>
        <NFormItem label="Role" :label-props="{ for: 'operator-role' }">
          <NSelect v-model:value="person.role" :options="roles" :input-props="{ id: 'operator-role' }" />
        </NFormItem>
        <NFormItem label="First password, 10 characters at least" :label-props="{ for: 'operator-password' }">
          <NInput
            v-model:value="person.password"
            type="password"
            show-password-on="click"
            placeholder=""
            :input-props="{ id: 'operator-password', autocomplete: 'new-password' }"
          />
        </NFormItem>
        <p>
          <NCheckbox v-model:checked="person.emergency">For emergencies: everybody is told when it is used</NCheckbox>
        </p>
        <NButton type="primary" attr-type="submit" size="small" :disabled="!whole" :loading="busy">Add</NButton>
      </NForm>
    </NModal>
    <NModal
      :show="Boolean(renews)"
      preset="card"
      :title="t('A new password for {0}', renews)"
      style="width: 460px"
      @update:show="(on: boolean) => !on && (renews = '')"
    >
      <NForm @submit.prevent="renew">
        <NFormItem label="New password, 10 characters at least" :label-props="{ for: 'operator-renewed' }">
          <NInput
            v-model:value="renewed"
            type="password"
            show-password-on="click"
            placeholder=""
            :input-props="{ id: 'operator-renewed', autocomplete: 'new-password' }"
          />
        </NFormItem>
        <p class="quiet">All sessions of {{ renews }} end.</p>
        <NButton type="primary" attr-type="submit" size="small" :disabled="renewed.length < 10" :loading="busy"
          >Set</NButton
        >
      </NForm>
    </NModal>
    <NModal v-model:show="lets" preset="card" title="Let the members of a group sign in" style="width: 460px">
      <NForm @submit.prevent="admit">
        <p class="quiet">
          They give login and password of their directory, which an agent tries there. Who leaves the group is refused
          within a minute. Whoever may change the group says who is operator here.
        </p>
        <NFormItem label="Group: its name, DN or id" :label-props="{ for: 'group-name' }">
          <NInput v-model:value="group.group" placeholder="" :input-props="{ id: 'group-name', autocomplete: 'off' }" />
        </NFormItem>
        <NFormItem label="Its members are" :label-props="{ for: 'group-role' }">
          <NSelect v-model:value="group.role" :options="roles" :input-props="{ id: 'group-role' }" />
        </NFormItem>
        <NButton type="primary" attr-type="submit" size="small" :disabled="!group.group" :loading="busy"
          >Let them sign in</NButton
        >
      </NForm>
    </NModal>
    <NModal v-model:show="makes" preset="card" title="Make a token" style="width: 460px">
      <NForm @submit.prevent="make">
        <NFormItem label="Name" :label-props="{ for: 'token-name' }">
          <NInput v-model:value="token.name" placeholder="" :input-props="{ id: 'token-name', autocomplete: 'off' }" />
        </NFormItem>
        <NFormItem label="What it is for" :label-props="{ for: 'token-purpose' }">
          <NInput v-model:value="token.purpose" placeholder="" :input-props="{ id: 'token-purpose' }" />
        </NFormItem>
        <NFormItem label="Role, the least that it needs" :label-props="{ for: 'token-role' }">
          <NSelect v-model:value="token.role" :options="roles" :input-props="{ id: 'token-role' }" />
        </NFormItem>
        <NFormItem label="Ends after days" :label-props="{ for: 'token-days' }">
          <NInputNumber
            v-model:value="token.days"
            :show-button="false"
            :min="1"
            :max="3650"
            :input-props="{ id: 'token-days' }"
          />
        </NFormItem>
        <NButton
          type="primary"
          attr-type="submit"
          size="small"
          :disabled="!token.name || !token.purpose"
          :loading="busy"
          >Make</NButton
        >
      </NForm>
    </NModal>
  </div>
</template>

<style scoped>
.secret {
  user-select: all;
  overflow-wrap: anywhere;
}
.gap {
  margin-bottom: 12px;
}
h2 {
  margin: 22px 0 8px;
}
</style>
