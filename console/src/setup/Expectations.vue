<script setup lang="ts">
// What must hold before a draft becomes active: each expectation, and what came of it.
import { NButton, NSkeleton } from 'naive-ui'

import { api, unwrap } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { useDraft } from '../state/draft'
import { useExpectations } from '../state/expectations'
import { t } from '../state/language'
import { useSession } from '../state/session'
import Unmet from './Unmet.vue'

const draft = useDraft()
const held = useExpectations()
const session = useSession()
const { busy, act } = useAct()

async function remove(index: number): Promise<void> {
  const saved = draft.saved
  if (!saved) return
  const document = { ...saved.document, expect: saved.document.expect?.filter((_, i) => i !== index) }
  const now = await act(() => unwrap(api.PUT('/api/v1/settings/draft', { body: { version: saved.version, document } })))
  if (now) draft.take(now)
}
</script>

<template>
  <div>
    <p class="quiet">
      Each activation holds these against what the new settings would do; where one is broken, nothing becomes active
      unless somebody says so.
    </p>
    <p v-if="!draft.saved?.document.expect?.length">
      Nothing is expected of anybody yet. Open somebody who must not be lost, or an account that must stay out, and
      choose <strong>Expect that it stays so</strong>: the <RouterLink :to="{ name: 'objects' }">objects</RouterLink>.
    </p>
    <p v-else-if="draft.saved.faults.length" class="bad">The draft has faults; correct them first.</p>
    <Fault v-else-if="held.failure" :failure="held.failure" @again="held.again" />
    <NSkeleton v-else-if="!held.data" text :repeat="3" />
    <template v-else>
      <p v-for="name in held.data.notRead" :key="name" class="warn">
        {{ name }} was not read yet: what hangs on it is empty here. The impact of the draft reads it.
      </p>
      <table class="list">
        <thead>
          <tr>
            <th>Of whom</th>
            <th>What is expected</th>
            <th>By the draft</th>
            <th><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(item, i) in held.data.items" :key="i">
            <td>
              <RouterLink v-if="item.entryId" :to="{ name: 'object', params: { id: item.entryId } }">{{
                item.expectation.name || item.expectation.entry
              }}</RouterLink>
              <template v-else>{{ item.expectation.name || item.expectation.entry }}</template>
              <div class="quiet">{{ item.directory }}</div>
            </td>
            <td>
              {{ item.said }}
              <div v-if="item.expectation.note" class="quiet">since: {{ item.expectation.note }}</div>
            </td>
            <td>
              <Tag :text="item.holds ? t('holds') : t('broken')" :tone="item.holds ? 'success' : 'error'" />
              <Unmet :unmet="item.unmet ?? []" />
            </td>
            <td>
              <NButton
                v-if="session.may('administrator')"
                size="tiny"
                :disabled="busy || draft.edited"
                @click="remove(i)"
                >Remove</NButton
              >
            </td>
          </tr>
        </tbody>
      </table>
    </template>
  </div>
</template>

<style scoped>
td:first-child {
  min-width: 120px;
}
td {
  vertical-align: top;
  overflow-wrap: anywhere;
}
p {
  margin: 0 0 10px;
}
</style>
