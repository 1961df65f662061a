<script setup lang="ts">
// Versions of the agent that are passed on to agents whose host allows it.
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { computed, ref } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { count, when } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

const props = defineProps<{ agents: Schemas['Agent'][] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const message = useMessage()
const { data, failure, again } = useLoad(() => unwrap(api.GET('/api/v1/agent-releases')), [])
useLive().listen((event) => {
  if (event.kind === 'agent' || event.kind === '') void again()
})

const ready = (release: Schemas['Release']) =>
  props.agents.filter((agent) => agent.takes === release.version && !agent.update)
function standing(release: Schemas['Release']): string {
  const of = (state: string) =>
    props.agents.filter((agent) => agent.update?.to === release.version && agent.update.state === state).length
  const parts: [number, string, string][] = [
    [props.agents.filter((agent) => agent.version === release.version).length, t('runs it'), t('run it')],
    [of('offered'), t('is going on by it'), t('are going on by it')],
    [of('waits'), 'waits', 'wait'],
    [of('failed'), 'failed', 'failed'],
    [ready(release).length, 'could', 'could'],
  ]
  return (
    parts
      .filter(([n]) => n)
      .map(([n, one, many]) => count(n, one, many))
      .join(', ') || 'none'
  )
}
const closed = computed(() => props.agents.filter((agent) => !agent.updates).length)

const picker = ref<HTMLInputElement>()
const sending = ref('')
async function add(event: Event): Promise<void> {
  const input = event.target as HTMLInputElement
  const files = Array.from(input.files ?? [])
  input.value = ''
  try {
    const statement = files.find((file) => file.name.endsWith('.jws'))
    if (!statement) throw new Error(t('Choose what was signed (a file that ends in .jws) together with its programs.'))
    sending.value = statement.name
    let release = await unwrap(
      api.POST('/api/v1/agent-releases', { body: { statement: (await statement.text()).trim() } }),
    )
    for (const wanted of release.files.filter((file) => !file.here)) {
      const program = files.find((file) => file.name === wanted.name)
      if (!program) continue
      sending.value = program.name
      release = await unwrap(
        api.PUT('/api/v1/agent-releases/{version}/programs/{platform}', {
          params: { path: { version: release.version, platform: wanted.platform } },
          body: program as unknown as string,
          bodySerializer: (body) => body as unknown as Blob,
          headers: { 'Content-Type': 'application/octet-stream' },
        }),
      )
    }
    const missing = release.files.filter((file) => !file.here).map((file) => file.name)
    if (missing.length)
      message.warning(t('{0} is here without {1}: choose those too.', release.version, missing.join(', ')))
    else message.success(t('Version {0} is here. No agent takes it before it is to.', release.version))
  } catch (e) {
    message.error((e as Error).message)
  } finally {
    sending.value = ''
    await again()
    emit('changed')
  }
}

const { act } = useAct()
async function done(work: () => Promise<unknown>, said: string): Promise<void> {
  await act(async () => {
    await work()
    message.success(said)
  })
  await again()
  emit('changed')
}
const updateAll = (release: Schemas['Release']) =>
  done(
    () =>
      unwrap(
        api.POST('/api/v1/agent-releases/{version}/updates', {
          params: { path: { version: release.version } },
          body: { agents: ready(release).map((agent) => agent.id) },
        }),
      ),
    t('They go on by {0}, one after the other.', release.version),
  )
const remove = (release: Schemas['Release']) =>
  done(
    () => unwrap(api.DELETE('/api/v1/agent-releases/{version}', { params: { path: { version: release.version } } })),
    t('Version {0} is not passed on any more.', release.version),
  )
</script>

<template>
  <section aria-labelledby="releases-title">
    <div class="page-head head">
      <h2 id="releases-title">Versions of the agent</h2>
      <template v-if="session.may('administrator')">
        <NButton size="small" :loading="!!sending" @click="picker?.click()">{{
          sending ? t('Sending {0}', sending) : t('Add a version…')
        }}</NButton>
        <input
          ref="picker"
          type="file"
          multiple
          class="visually-hidden"
          tabindex="-1"
          aria-label="What was signed of a version of the agent, and its programs"
          @change="add"
        />
      </template>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <p v-else-if="data && !data.length" class="quiet none">
      None is here. Agents whose host allows it (<code>kambrel agent allow-updates</code>) take newer programs from
      here, signed by a key that the service does not have. <code>kambrel agent release --help</code> tells how one is
      signed.
    </p>
    <template v-else-if="data">
      <table class="sheet table">
        <thead>
          <tr>
            <th>Version</th>
            <th>Platforms</th>
            <th>Signed by</th>
            <th>Added</th>
            <th>Agents</th>
            <th><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="release in data" :key="release.version">
            <td>
              <strong>{{ release.version }}</strong>
            </td>
            <td>
              <div v-for="file in release.files" :key="file.platform" class="platform">
                {{ file.platform }} <Tag v-if="!file.here" text="not here yet" tone="warning" :title="file.name" />
              </div>
            </td>
            <td class="key">
              <code>{{ release.key }}</code>
            </td>
            <td>
              {{ when(release.added) }}<br /><span class="quiet">{{ release.addedBy }}</span>
            </td>
            <td>{{ standing(release) }}</td>
            <td class="acts">
              <NPopconfirm
                v-if="session.may('administrator') && ready(release).length"
                @positive-click="updateAll(release)"
              >
                <template #trigger
                  ><NButton size="tiny">Update {{ count(ready(release).length, 'agent') }}…</NButton></template
                >
                {{
                  ready(release)
                    .map((agent) => agent.name)
                    .join(', ')
                }}: one after the other. One that does not report within a minute goes back, and the next are kept.
              </NPopconfirm>
              <NPopconfirm v-if="session.may('administrator')" @positive-click="remove(release)">
                <template #trigger><NButton size="tiny" quaternary>Remove…</NButton></template>
                Pass {{ release.version }} on no more? Agents that run it go on with it.
              </NPopconfirm>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="closed" class="quiet">
        {{ count(closed, 'agent takes', 'agents take') }} no programs from here: their hosts do not allow it.
      </p>
    </template>
  </section>
</template>

<style scoped>
.head {
  margin-top: 20px;
}
.none {
  max-width: 760px;
}
.key code {
  font-size: 12px;
  overflow-wrap: anywhere;
}
.platform {
  white-space: nowrap;
}
.acts {
  white-space: nowrap;
}
</style>
