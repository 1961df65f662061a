<script setup lang="ts">
// What can be decided by hand about one entry: link, merge, create all the
// same, unlink. Each is shown first and done on a second word.
import { NButton, NInput, NModal, useMessage } from 'naive-ui'
import { computed, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap, type ObjectView, type Schemas } from '../api/client'
import Diffs from '../parts/Diffs.vue'
import { useLoad } from '../parts/useLoad'
import { show } from '../parts/words'
import { useSession } from '../state/session'

type Action = Schemas['NewDecision']['action']
const props = defineProps<{ entry: string; name: string; candidates: string[]; linked?: boolean; code?: string }>()
const emit = defineEmits<{ done: [] }>()
const session = useSession()
const message = useMessage()
const router = useRouter()
const other = ref('')
const decided = shallowRef<Schemas['Decided'] | null>(null)
const asked = shallowRef<{ action: Action; resource?: string } | null>(null)
const busy = ref(false)

// The other side: what the cloud has.
const { data: sides } = useLoad(
  async () =>
    await Promise.all(
      props.candidates.slice(0, 5).map(async (id) => ({
        id,
        object: await unwrap(api.GET('/api/v1/object', { params: { query: { text: id } } })).catch(() => null),
      })),
    ),
  [() => props.candidates.join()],
)
const facts = (object: ObjectView | null): [string, string][] => {
  const r = (object?.resource ?? {}) as Record<string, unknown>
  const emails = ((r.emails ?? []) as { value?: string }[]).map((m) => m.value ?? '').join(', ')
  const roles = ((r.roles ?? []) as { value?: string }[]).map((m) => m.value ?? '').join(', ')
  return (
    [
      ['Login', show(r.userName)],
      ['Name', show(r.displayName)],
      ['Addresses', emails],
      ['Roles', roles],
      ['Active', show(r.active)],
    ] as [string, string][]
  ).filter(([, value]) => value)
}

async function ask(action: Action, resource?: string): Promise<void> {
  busy.value = true
  try {
    decided.value = await unwrap(api.POST('/api/v1/decisions', { body: { entry: props.entry, action, resource } }))
    asked.value = { action, resource }
  } catch (e) {
    message.error((e as Error).message, { duration: 9000, closable: true })
  } finally {
    busy.value = false
  }
}
async function act(): Promise<void> {
  if (!asked.value) return
  busy.value = true
  try {
    const done = await unwrap(api.POST('/api/v1/decisions', { body: { entry: props.entry, ...asked.value, do: true } }))
    decided.value = null
    emit('done')
    if (done.runId) await router.push({ name: 'run', params: { id: done.runId } })
  } catch (e) {
    message.error((e as Error).message, { duration: 9000, closable: true })
  } finally {
    busy.value = false
  }
}
const creates = computed(
  () => !props.linked && ['near-miss', 'held-by-hand', 'ambiguous-match'].includes(props.code ?? ''),
)
const title: Record<Action, string> = {
  link: 'Link',
  merge: 'Merge',
  hold: 'Unlink',
  create: 'Create all the same',
  forget: 'Let the rules decide',
}
</script>

<template>
  <div v-if="session.may('operator')" class="decide">
    <div v-for="side in sides ?? []" :key="side.id" class="side">
      <dl class="facts">
        <template v-for="[fact, value] in facts(side.object)" :key="fact"
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
      <NButton v-if="creates" size="small" :loading="busy" @click="ask('create')">Not the same: create…</NButton>
      <NButton v-if="linked" size="small" :loading="busy" @click="ask('hold')">Unlink…</NButton>
      <NButton v-if="code === 'held-by-hand'" size="small" :loading="busy" @click="ask('forget')"
        >Let the rules decide…</NButton
      >
      <NInput
        v-model:value="other"
        size="small"
        style="width: 260px"
        placeholder="Login or id of a resource in the cloud"
        :input-props="{ 'aria-label': 'Login or id of a resource to link' }"
      />
      <NButton size="small" :disabled="!other" :loading="busy" @click="ask(linked ? 'merge' : 'link', other)">{{
        linked ? 'Merge with it…' : 'Link it…'
      }}</NButton>
    </div>
    <NModal
      :show="Boolean(decided)"
      preset="card"
      :title="`${title[asked?.action ?? 'link']}: ${name}`"
      style="width: 760px"
      @update:show="(on: boolean) => !on && (decided = null)"
    >
      <template v-if="decided">
        <p>{{ decided.summary }}</p>
        <p v-for="warning in decided.warnings ?? []" :key="warning" class="warn" role="alert">{{ warning }}</p>
        <Diffs v-if="decided.diffs.length" :diffs="decided.diffs" />
        <p class="quiet">It is kept in the audit with your name. A run carries it out at once.</p>
        <div class="row">
          <NButton size="small" :type="decided.removes ? 'error' : 'primary'" :loading="busy" @click="act">{{
            title[asked?.action ?? 'link']
          }}</NButton><NButton size="small" @click="decided = null">Leave it</NButton>
        </div>
      </template>
    </NModal>
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
