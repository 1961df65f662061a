<script setup lang="ts">
// Who is told of what, what people were told, and whether it gets through.
import { NButton, NDataTable, NSkeleton, useMessage, type DataTableColumns } from 'naive-ui'
import { h } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { count, when } from '../parts/words'
import Recipients from '../setup/Recipients.vue'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

type Notice = Schemas['Notice']

const session = useSession()
const message = useMessage()
const { data, failure, again } = useLoad(() => unwrap(api.GET('/api/v1/notices')), [])
const { busy, act } = useAct()

const kinds: Record<Notice['kind'], string> = {
  broke: t('Broken'),
  well: t('Well again'),
  digest: t('Digest'),
  test: t('Trial'),
  report: t('Report'),
}
const edits = useQuery<'yes' | ''>('edit', '')
const toggle = () => (edits.value = edits.value ? '' : 'yes')
useLive().listen((event) => event.kind === 'settings' && void again())
const whom = (n: Notice) => (n.channel === 'webhook' ? 'webhook' : n.recipients.join(', '))
async function test(): Promise<void> {
  const sent = await act(() => unwrap(api.POST('/api/v1/notices/test')))
  if (!sent) return
  const missed = sent.filter((n) => !n.sent)
  if (missed.length)
    message.error(missed.map((n) => n.failure || t('{0}: not taken yet', whom(n))).join('; '), { duration: 9000 })
  else message.success(t('Taken: {0}', sent.map(whom).join('; ')))
  await again()
}

const columns: DataTableColumns<Notice> = [
  {
    type: 'expand',
    renderExpand: (n) => h('pre', { class: 'body-text' }, n.body),
  },
  { title: t('Made'), key: 'created', width: 150, render: (n) => when(n.created) },
  { title: t('What'), key: 'kind', width: 110, render: (n) => kinds[n.kind] },
  { title: t('Subject'), key: 'subject', minWidth: 220 },
  { title: t('To'), key: 'recipients', minWidth: 180, render: whom },
  {
    title: t('State'),
    key: 'sent',
    width: 260,
    render: (n) =>
      n.sent
        ? h(Tag, { text: t('Taken {0}', when(n.sent)), tone: 'success' })
        : [
            h(Tag, { text: n.attempts ? t('Not taken') : t('Waits'), tone: n.attempts ? 'error' : 'default' }),
            n.failure ? h('div', { class: 'bad' }, `${count(n.attempts, 'attempt')}: ${n.failure}`) : '',
          ],
  },
]
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Notices</h1>
      <span class="quiet"
        >People are told at once of what breaks and when it is well again, and once a day of the rest.</span
      >
      <span class="push" />
      <NButton
        v-if="session.may('administrator')"
        size="small"
        :loading="busy"
        :disabled="!data?.recipients.length && !data?.webhook"
        @click="test"
        >Send a trial</NButton
      >
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="6" />
    <template v-else>
      <section class="sheet">
        <header>
          <h2>Who is told</h2>
          <NButton v-if="session.may('operator')" size="tiny" :aria-expanded="edits === 'yes'" @click="toggle">{{
            edits === 'yes' ? t('Done') : t('Change…')
          }}</NButton>
        </header>
        <div class="body">
          <dl class="facts">
            <dt>Mail server</dt>
            <dd :class="{ warn: !data.server }">
              {{
                data.server
                  ? t('{0}, from {1}', data.server, data.from)
                  : 'none: the service is started with --mail-server'
              }}
            </dd>
            <template v-for="one in edits ? [] : data.recipients" :key="one.to">
              <dt>{{ one.to }}</dt>
              <dd>{{ one.of.join(' and ') }}</dd>
            </template>
            <template v-if="data.webhook">
              <dt>Webhook</dt>
              <dd>{{ data.webhook }}, {{ data.signed ? t('signed') : t('not signed') }}</dd>
            </template>
            <dt>Digest</dt>
            <dd>{{ data.digest ? t('at {0}, on days with something to tell', data.digest) : t('off') }}</dd>
          </dl>
          <p v-if="!data.recipients.length && !data.webhook" class="warn">Nobody is told of anything: name somebody.</p>
        </div>
      </section>
      <Recipients v-if="edits === 'yes'" />
      <NDataTable :columns="columns" :data="data.items" :row-key="(n: Notice) => n.id" size="small">
        <template #empty>Nobody was told of anything yet.</template>
      </NDataTable>
    </template>
  </div>
</template>

<style scoped>
.sheet {
  margin-bottom: 14px;
}
:deep(.body-text) {
  white-space: pre-wrap;
  margin: 0;
  font-family: var(--mono);
  font-size: 12.5px;
}
</style>
