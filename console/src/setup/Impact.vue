<script setup lang="ts">
// What activating the draft would do: rehearsed, live, and then activated.
import { NButton, NCheckbox, NInput, NPopconfirm, NProgress, useMessage } from 'naive-ui'
import { computed, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Run } from '../api/client'
import { count, heldRemovals, heldText } from '../parts/words'
import { useDraft } from '../state/draft'
import { useExpectations } from '../state/expectations'
import { language, t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const draft = useDraft()
const held = useExpectations()
const session = useSession()
const message = useMessage()
const live = useLive()
const run = shallowRef<Run | null>(null)
const note = ref('')
const starting = ref(false)
const activating = ref(false)
const although = ref(false)
const broken = computed(() => (draft.saved?.version ? (held.data?.failing ?? 0) : 0))
watch(broken, () => (although.value = false))

watch(
  () => draft.saved,
  (saved) => {
    run.value = saved?.impact ?? null
    if (run.value && !run.value.ended) void refresh(run.value.id).catch(() => undefined)
  },
  { immediate: true },
)

async function refresh(id: number): Promise<void> {
  const now = await unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id } } }))
  if (run.value?.id === id) run.value = now
}
live.listen(
  (event) => event.kind === 'run' && event.id !== undefined && event.id === run.value?.id && void refresh(event.id),
)

async function show(): Promise<void> {
  starting.value = true
  try {
    const asked = await unwrap(api.POST('/api/v1/settings/draft/impact'))
    run.value = asked
    await refresh(asked.id) // it may have ended before this page knew of it
  } catch (e) {
    message.error((e as Error).message, { duration: 9000, closable: true })
  } finally {
    starting.value = false
  }
}

async function cancel(): Promise<void> {
  if (run.value)
    await unwrap(api.POST('/api/v1/runs/{id}/cancel', { params: { path: { id: run.value.id } } })).catch(
      () => undefined,
    )
}

async function activate(): Promise<void> {
  activating.value = true
  try {
    const settings = await unwrap(
      api.POST('/api/v1/settings/draft/activate', {
        body: { version: draft.saved?.version ?? 0, note: note.value, although: although.value || undefined },
      }),
    )
    message.success(t('Revision {0} is active. The next run works by it.', settings.revision))
    note.value = ''
    await draft.load()
  } catch (e) {
    message.error((e as Error).message, { duration: 9000, closable: true })
  } finally {
    activating.value = false
  }
}

const goes = computed(() => Boolean(run.value && !run.value.ended))
const done = computed(() =>
  Boolean(run.value?.ended && run.value.state !== 'failed' && run.value.state !== 'cancelled'),
)
const question = computed(() => {
  const c = run.value?.counts
  if (!done.value || !c) return t('Activate without having seen the impact?')
  return t(
    'Activate? The next run creates {0}, changes {1} and suspends {2}.',
    c.create,
    c.update,
    c.suspend + heldRemovals(run.value!),
  )
})
const ready = computed(() => Boolean(draft.saved?.version && !draft.edited && !draft.saved.faults.length))
const lines = computed(() => {
  const c = run.value?.counts
  if (!c) return []
  return (
    [
      [t('would be created'), c.create, 'create', ''],
      ['adopted', c.adopt, 'adopt', ''],
      ['changed', c.update, 'update', ''],
      ['restored', c.restore, 'restore', ''],
      ['suspended', c.suspend + heldRemovals(run.value!), 'suspend', 'warn'],
      [t('to be deleted later'), (c.leave ?? 0) + heldRemovals(run.value!, true), 'leave', 'warn'],
      ['deleted', c.delete ?? 0, 'delete', 'warn'],
    ] as [string, number, string, string][]
  ).map(([text, n, operation, tone]) => ({ text, n, query: { operation }, tone }))
})
</script>

<template>
  <section class="sheet" aria-label="Impact">
    <header>
      <h2>Impact</h2>
      <NButton v-if="goes" size="small" @click="cancel">Cancel</NButton>
      <NButton v-else-if="session.may('operator')" size="small" :loading="starting" :disabled="!ready" @click="show">{{
        done ? t('Show again') : t('Show impact')
      }}</NButton>
    </header>
    <div class="body" aria-live="polite">
      <p v-if="!draft.saved?.version" class="quiet">There is no draft, so activating would change nothing.</p>
      <p v-else-if="draft.edited" class="quiet">Save the draft first; the impact is that of the saved draft.</p>
      <p v-else-if="draft.saved.faults.length" class="bad">
        The draft has {{ count(draft.saved.faults.length, 'fault') }} and cannot be activated.
      </p>
      <p v-else-if="!run" class="quiet">
        A rehearsal decides about everybody as a run would and writes nothing. It shows who would be created, changed,
        suspended, and what the guard says.
      </p>
      <template v-if="run && draft.saved?.version && !draft.edited">
        <template v-if="goes">
          <p>
            {{
              run.stage === 'read'
                ? t('Reading what changed')
                : run.stage === 'plan'
                  ? t('Deciding: {0} looked at', run.counts.planned.toLocaleString(language))
                  : t('Waiting for its turn')
            }}…
          </p>
          <NProgress
            type="line"
            :percentage="
              live.health?.objects.entries
                ? Math.min(100, Math.round((run.counts.planned / live.health.objects.entries) * 100))
                : 0
            "
            :height="7"
            :show-indicator="false"
            processing
          />
        </template>
        <p v-else-if="run.state === 'cancelled'" class="quiet">The rehearsal was cancelled.</p>
        <p v-else-if="run.failure" class="bad" role="alert">
          <strong>{{ t(run.failure.title) }}.</strong> {{ run.failure.detail }} {{ t(run.failure.remedy) }}
        </p>
        <template v-else>
          <ul class="impact">
            <li v-for="line in lines" :key="line.text" :class="line.n ? line.tone : 'quiet'">
              <RouterLink v-if="line.n" :to="{ name: 'run', params: { id: run.id }, query: line.query }"
                ><strong>{{ line.n.toLocaleString(language) }}</strong> {{ line.text }}</RouterLink
              >
              <template v-else><strong>0</strong> {{ line.text }}</template>
            </li>
            <li v-if="run.counts.problems" class="bad">
              <RouterLink :to="{ name: 'run', params: { id: run.id }, query: { state: 'blocked' } }"
                ><strong>{{ run.counts.problems }}</strong> left with a problem</RouterLink
              >
            </li>
          </ul>
          <p v-if="run.counts.held" class="guard warn" role="alert">
            <strong>The guard would hold</strong> until somebody releases it what would {{ heldText(run) }}: more than
            one run may take away.
            <RouterLink :to="{ name: 'run', params: { id: run.id }, query: { state: 'held' } }">Look at it</RouterLink>
          </p>
          <p v-else-if="run.counts.suspend" class="guard">
            The guard would let the {{ count(run.counts.suspend, 'suspension') }} through.
          </p>
          <p v-for="one in run.counts.going" :key="one.kind" class="guard warn">{{ one.text }}.</p>
          <p class="quiet">
            {{ run.counts.planned.toLocaleString(language) }} entries looked at.
            <template v-if="run.counts.needs">To carry it out takes {{ run.counts.needs.text }}.</template>
            <RouterLink :to="{ name: 'run', params: { id: run.id } }">Each of them, with a search</RouterLink>. Nothing
            was changed in the cloud.
          </p>
        </template>
      </template>
      <p v-if="ready && broken" class="guard bad" role="alert">
        <strong>{{ count(broken, 'expectation is broken', 'expectations are broken') }}</strong>, so the draft cannot
        become active as it is.
        <RouterLink :to="{ name: 'settings', query: { view: 'expectations' } }">Look at what must hold</RouterLink>.
        <NCheckbox v-if="session.may('administrator')" v-model:checked="although" size="small"
          >Activate it all the same; the audit keeps what was broken</NCheckbox
        >
      </p>
      <div v-if="ready && session.may('administrator')" class="row">
        <NInput
          v-model:value="note"
          size="small"
          placeholder="Why, for the history"
          style="flex: 1; min-width: 120px"
          :input-props="{ 'aria-label': t('Note for the history') }"
        />
        <NPopconfirm @positive-click="activate">
          <template #trigger
            ><NButton size="small" type="primary" :loading="activating" :disabled="broken > 0 && !although"
              >Activate…</NButton
            ></template
          >
          {{ question }}
        </NPopconfirm>
      </div>
    </div>
  </section>
</template>

<style scoped>
.impact {
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 4px 18px;
}
.impact li.warn a,
.impact li.bad a {
  color: inherit;
}
p {
  margin: 0 0 8px;
}
.guard {
  border-left: 3px solid currentColor;
  padding-left: 10px;
}
</style>
