<script setup lang="ts">
// How much may go at once, what becomes of leavers, and for how long things are remembered,
// as edits of the draft.
import { NInputNumber, NRadio, NRadioGroup } from 'naive-ui'
import { computed, onMounted } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { useLoad } from '../parts/use-load'
import { count } from '../parts/words'
import { useDraft } from '../state/draft'
import { t } from '../state/language'
import { useSession } from '../state/session'
import DraftField from './DraftField.vue'
import { holdsFrom } from './limits'

type Kind = 'users' | 'groups' | 'contacts'

const draft = useDraft()
const session = useSession()
const may = computed(() => session.may('operator'))
const document = computed(() => draft.document)
onMounted(() => void draft.load())

// Those of a new guard, which count where the settings name none.
const standing: Record<string, Schemas['Limit']> = {
  members: { number: 100, share: 10 },
  group: { number: 10, share: 50 },
  values: { number: 20, share: 5 },
  access: { number: 20, share: 5 },
  logins: { number: 20, share: 5 },
}
const rows = [
  { name: 'removals', text: t('Removals'), more: t('suspended or deleted, of all that is linked') },
  { name: 'members', text: t('Members that groups lose'), more: t('who are still there; of all members of groups') },
  { name: 'group', text: t('Members of one group'), more: t('who are still there; of its members') },
  { name: 'values', text: t('People who lose a value'), more: t('one attribute emptied or switched off') },
  { name: 'access', text: t('People who lose access'), more: t('roles or entitlements') },
  { name: 'logins', text: t('People whose login changes'), more: '' },
] as const
type Row = (typeof rows)[number]['name']
// Removals stand in the guard itself, all else in limits of their own.
function limit(name: Row): Schemas['Limit'] {
  const guard = document.value?.guard
  if (name === 'removals') return { number: guard?.removals ?? 0, share: guard?.share ?? 0 }
  return guard?.[name] ?? standing[name]!
}
function set(name: Row, part: Partial<Schemas['Limit']>): void {
  const guard = document.value?.guard
  const now = { ...limit(name), ...part }
  if (!guard) return
  if (name === 'removals') Object.assign(guard, { removals: now.number, share: now.share })
  else guard[name] = now
}

// What the limit means with those who are linked now.
const { data: health } = useLoad(() => unwrap(api.GET('/api/v1/health')), [])
const linked = computed(() => {
  const of = health.value?.objects
  return of ? of.linked - of.suspended + of.groups + of.contacts : 0
})
const from = computed(() => holdsFrom(limit('removals'), linked.value))

const kinds: { kind: Kind; text: string }[] = [
  { kind: 'users', text: t('People') },
  { kind: 'groups', text: t('Groups') },
  { kind: 'contacts', text: t('Contacts') },
]
const policies = [
  { value: 'suspend', text: t('Suspend: nobody signs in, everything stays') },
  { value: 'delete', text: t('Delete after a grace time; people are suspended until then') },
  { value: 'keep', text: t('Keep as it is') },
]
function grace(kind: Kind, value: string): void {
  const taking = document.value?.[kind]
  if (!taking) return
  if (value.trim()) taking.grace = value.trim()
  else delete taking.grace
}
// While it is typed it may be empty.
function remember(days: number | null): void {
  if (document.value && days) document.value.history = { ...document.value.history, days }
}
</script>

<template>
  <template v-if="document">
    <h3>Held unless somebody releases it</h3>
    <p class="quiet">
      More than the number and more than the share, both: neither a small directory nor a large one is stopped by what
      happens every day.
    </p>
    <table class="limits">
      <thead>
        <tr>
          <th scope="col">What would go</th>
          <th scope="col">More than</th>
          <th scope="col">and than percent</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in rows" :key="one.name">
          <th scope="row">
            <template v-if="one.more"
              >{{ one.text }}: <span class="quiet">{{ one.more }}</span></template
            ><template v-else>{{ one.text }}</template>
          </th>
          <td>
            <NInputNumber
              :show-button="false"
              :value="limit(one.name).number"
              size="small"
              :min="0"
              :disabled="!may"
              :input-props="{ 'aria-label': t('{0}, number', one.text) }"
              @update:value="(n: number | null) => set(one.name, { number: n ?? 0 })"
            />
          </td>
          <td>
            <NInputNumber
              :show-button="false"
              :value="limit(one.name).share"
              size="small"
              :min="0"
              :max="100"
              :disabled="!may"
              :input-props="{ 'aria-label': t('{0}, percent', one.text) }"
              @update:value="(n: number | null) => set(one.name, { share: n ?? 0 })"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <p class="row">
      What went within
      <DraftField
        :value="document.guard.within"
        class="short"
        label="What went within"
        placeholder="1h"
        @change="(within) => document && (document.guard.within = within.trim() || undefined)"
      />
      counts with it, so that nothing goes one by one.
    </p>
    <p v-if="linked" role="status" :class="from > linked ? 'bad' : 'quiet'">
      {{
        from > linked
          ? t('Of the {0} that are linked now, all could go at once: lower a limit.', count(linked, 'entry', 'entries'))
          : t(
              'Of the {0} that are linked now, {1} and more removals are held.',
              count(linked, 'entry', 'entries'),
              from,
            )
      }}
    </p>
    <h3>Whoever leaves</h3>
    <dl class="form">
      <template v-for="{ kind, text } in kinds" :key="kind">
        <dt>{{ text }}</dt>
        <dd>
          <NRadioGroup
            :value="document[kind]?.leavers ?? 'suspend'"
            :name="`leavers-${kind}`"
            :disabled="!may || !document[kind]"
            @update:value="
              (policy: string) => {
                const taking = document?.[kind]
                if (taking) taking.leavers = policy
              }
            "
          >
            <NRadio v-for="policy in policies" :key="policy.value" :value="policy.value">{{ policy.text }}</NRadio>
          </NRadioGroup>
          <span v-if="document[kind]?.leavers === 'delete'" class="row">
            after
            <DraftField
              :value="document[kind]?.grace"
              class="short"
              :label="t('Grace time of {0}', kind)"
              placeholder="720h"
              @change="(value) => grace(kind, value)"
            />
          </span>
        </dd>
      </template>
    </dl>
    <h3>Remembered</h3>
    <p class="row">
      How things were, for
      <NInputNumber
        :show-button="false"
        :value="document.history?.days || 90"
        size="small"
        class="short"
        :min="7"
        :max="3660"
        :disabled="!may"
        :input-props="{ 'aria-label': t('Days of history') }"
        @update:value="remember"
      />
      days: runs, changes, closed problems and each version; undo and reports reach as far.
    </p>
    <p class="quiet">It counts once the draft is activated.</p>
  </template>
</template>

<style scoped>
h3 {
  margin: 18px 0 4px;
}
h3:first-child {
  margin-top: 0;
}
.limits {
  border-collapse: collapse;
}
.limits th {
  text-align: left;
  font-weight: 400;
  padding: 3px 14px 3px 0;
}
.limits thead th {
  color: var(--ink-3);
  font-size: 12.5px;
}
.limits td {
  width: 130px;
  padding-right: 10px;
}
.form {
  display: grid;
  grid-template-columns: 90px 1fr;
  gap: 8px 12px;
  margin: 0;
  align-items: start;
}
.form dt {
  font-weight: 500;
}
.form dd {
  margin: 0;
}
.form dd :deep(.n-radio) {
  display: flex;
}
.short {
  width: 110px;
}
</style>
