<script setup lang="ts">
// What can be decided by hand about one entry: the remedies of its problem, and to
// link, merge or unlink it in any case. Each is shown first and done on a second word.
import { NButton, NInput } from 'naive-ui'

import type { ObjectView, Schemas } from '../api/client'
import { show } from '../parts/words'
import { t } from '../state/language'
import { useSession } from '../state/session'
import Decided from './Decided.vue'
import { factsOf, useDecision } from './use-decision'

const props = defineProps<{
  entry: string
  name: string
  remedies: Schemas['Remedy'][]
  linked?: boolean
  left?: 'due' | 'stays' // it has left, and its resource is to be deleted, or not
  stay?: boolean
}>()
const emit = defineEmits<{ done: [] }>()
const session = useSession()
const { sides, others, asked, decided, busy, ask, decide, other } = useDecision(
  () => props.entry,
  () => props.remedies,
  () => emit('done'),
  props.stay,
)
// Where both sides are shown already, a candidate is a button.
const nameOf = (side: { id: string; object: ObjectView | null }) =>
  show((side.object?.resource as { userName?: string } | undefined)?.userName) || side.id
</script>

<template>
  <div v-if="session.may('operator')" class="decide">
    <div v-for="side in stay ? [] : (sides ?? [])" :key="side.id" class="side">
      <dl class="facts">
        <template v-for="[fact, value] in factsOf(side.object)" :key="fact"
          ><dt>{{ fact }}</dt>
          <dd>{{ value }}</dd></template
        >
        <dt>Id</dt>
        <dd class="mono">
          <RouterLink :to="{ name: 'object', params: { id: side.id } }">{{ side.id }}</RouterLink>
        </dd>
      </dl>
      <NButton size="small" type="primary" :loading="busy" @click="ask(linked ? 'merge' : 'link', side.id)"
        >Same person: link…</NButton
      >
    </div>
    <div class="row">
      <NButton
        v-for="side in stay ? (sides ?? []) : []"
        :key="side.id"
        size="small"
        type="primary"
        :loading="busy"
        @click="ask(linked ? 'merge' : 'link', side.id)"
        >Same person: link with {{ nameOf(side) }}…</NButton
      >
      <NButton
        v-for="remedy in others"
        :key="remedy.act + remedy.entry"
        size="small"
        :loading="busy"
        :title="remedy.when"
        @click="ask(remedy.action, remedy.resource, remedy.entry)"
        >{{ remedy.title }}…</NButton
      >
      <NButton v-if="linked" size="small" :loading="busy" @click="ask('hold')">Unlink…</NButton>
      <template v-if="left">
        <NButton size="small" :loading="busy" @click="ask('return')">Let it return…</NButton>
        <NButton v-if="left === 'due'" size="small" :loading="busy" @click="ask('keep')">Keep from deletion…</NButton>
      </template>
      <NInput
        v-model:value="other"
        size="small"
        style="width: 260px"
        placeholder="Login or id of a resource in the cloud"
        :input-props="{ 'aria-label': t('Login or id of a resource to link') }"
      />
      <NButton size="small" :disabled="!other" :loading="busy" @click="ask(linked ? 'merge' : 'link', other)">{{
        linked ? t('Merge with it…') : t('Link it…')
      }}</NButton>
      <NButton v-if="other" size="small" :loading="busy" @click="ask(linked ? 'swap' : 'take-over', other)">{{
        linked ? t('Exchange with whose it is…') : t('Take it over…')
      }}</NButton>
    </div>
    <Decided
      :decided="decided"
      :action="asked?.action ?? 'link'"
      :name="asked?.entry === entry ? name : (decided?.entry ?? name)"
      :busy="busy"
      @decide="decide"
      @leave="decided = null"
    />
  </div>
</template>

<style scoped>
.decide {
  margin-top: 8px;
}
.side {
  display: flex;
  gap: 14px;
  align-items: flex-start;
  justify-content: space-between;
  border: 1px solid var(--line);
  border-radius: 6px;
  padding: 8px 12px;
  margin-bottom: 8px;
  max-width: 720px;
}
</style>
