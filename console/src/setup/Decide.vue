<script setup lang="ts">
// What can be decided by hand about one entry: the remedies of its problem, and to
// link, merge or unlink it in any case. Each is shown first and done on a second word.
import { NButton, NInput, NModal, useMessage } from 'naive-ui'
import { computed, ref, shallowRef } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap, type ObjectView, type Schemas } from '../api/client'
import Diffs from '../parts/Diffs.vue'
import { useLoad } from '../parts/useLoad'
import { show } from '../parts/words'
import { useSession } from '../state/session'

type Action = Schemas['NewDecision']['action']
type Remedy = Schemas['Remedy']
const props = defineProps<{ entry: string; name: string; remedies: Remedy[]; linked?: boolean }>()
const emit = defineEmits<{ done: [] }>()
const session = useSession()
const message = useMessage()
const router = useRouter()
const other = ref('')
const decided = shallowRef<Schemas['Decided'] | null>(null)
const asked = shallowRef<{ entry: string; action: Action; resource?: string } | null>(null)
const busy = ref(false)

// What an act is called as a decision.
const actions: Record<string, Action> = {
  link: 'link',
  merge: 'merge',
  create: 'create',
  unlink: 'hold',
  rematch: 'forget',
}
const links = computed(() => props.remedies.filter((r) => r.act === 'link' && r.resource))
const others = computed(() =>
  props.remedies.flatMap((r) => {
    const action = actions[r.act]
    return action && action !== 'link' ? [{ ...r, action }] : []
  }),
)

// The other side: what the cloud has.
const { data: sides } = useLoad(
  async () =>
    await Promise.all(
      links.value.slice(0, 5).map(async (r) => ({
        id: r.resource ?? '',
        object: await unwrap(api.GET('/api/v1/object', { params: { query: { text: r.resource ?? '' } } })).catch(
          () => null,
        ),
      })),
    ),
  [() => links.value.map((r) => r.resource).join()],
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

async function ask(action: Action, resource?: string, entry = props.entry): Promise<void> {
  busy.value = true
  try {
    decided.value = await unwrap(api.POST('/api/v1/decisions', { body: { entry, action, resource } }))
    asked.value = { entry, action, resource }
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
    const done = await unwrap(api.POST('/api/v1/decisions', { body: { ...asked.value, do: true } }))
    decided.value = null
    emit('done')
    if (done.runId) await router.push({ name: 'run', params: { id: done.runId } })
  } catch (e) {
    message.error((e as Error).message, { duration: 9000, closable: true })
  } finally {
    busy.value = false
  }
}
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
      <NButton
        v-for="remedy in others"
        :key="remedy.act + remedy.entry"
        size="small"
        :loading="busy"
        :title="remedy.when"
        @click="ask(remedy.action, undefined, remedy.entry)"
        >{{ remedy.title }}…</NButton
      >
      <NButton v-if="linked" size="small" :loading="busy" @click="ask('hold')">Unlink…</NButton>
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
      :title="`${title[asked?.action ?? 'link']}: ${asked?.entry === entry ? name : (decided?.entry ?? name)}`"
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
