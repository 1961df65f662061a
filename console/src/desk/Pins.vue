<script setup lang="ts">
// What was put back and stays so, whatever rules and scope say, until somebody lifts it.
import { NButton, NPopconfirm } from 'naive-ui'
import { useRouter } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import Dn from '../parts/Dn.vue'
import Turn from '../parts/Turn.vue'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import { count, shortTarget, show, when } from '../parts/words'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { useSession } from '../state/session'

type Pin = Schemas['Pin']

const props = defineProps<{ entry?: { directory: string; id: string } }>()
const session = useSession()
const router = useRouter()
const { act } = useAct()
const cursor = useQuery<string>('pins', '')
const { data, again } = useLoad(
  () =>
    unwrap(
      api.GET('/api/v1/pins', {
        params: {
          query: {
            limit: 50,
            cursor: props.entry ? undefined : cursor.value || undefined,
            directory: props.entry?.directory,
            id: props.entry?.id,
          },
        },
      }),
    ),
  [cursor, () => props.entry?.id],
)
useLive().listen((event) => event.kind === 'run' && void again())

function text(pin: Pin): string {
  const target = shortTarget(pin.target)
  if (pin.target === 'scope')
    return pin.value ? t('takes part, whatever the scope says') : t('takes no part, whatever the scope says')
  if (pin.target === 'deletion') return t('is not deleted when the grace time is over')
  if (pin.element) return `${target} ${pin.value ? 'keeps' : t('is without')} ${pin.name || pin.element}`
  return t('{0} stays {1}', target, show(pin.value) || 'empty')
}
async function lift(pin: Pin): Promise<void> {
  const body = { directory: pin.directory, entryId: pin.entryId, target: pin.target }
  const run = await act(() => unwrap(api.POST('/api/v1/pins/lift', { body })))
  if (run) await router.push({ name: 'run', params: { id: run.id } })
}
</script>

<template>
  <section v-if="data?.items.length" class="sheet">
    <header>
      <h2>Put back, or decided by hand</h2>
      <span class="quiet">stays so until it is lifted, or rules and scope come to the same</span>
    </header>
    <div class="body">
      <div v-for="pin in data.items" :key="pin.entryId + pin.target + pin.element" class="pin">
        <RouterLink v-if="!entry" :to="{ name: 'object', params: { id: pin.entryId } }"><Dn :dn="pin.dn" /></RouterLink>
        <span class="text">{{ text(pin) }}</span>
        <span class="quiet"
          >by {{ pin.by }}, {{ when(pin.made)
          }}<template v-if="pin.runId"
            >: undo of
            <RouterLink :to="{ name: 'run', params: { id: pin.runId } }">run {{ pin.runId }}</RouterLink></template
          ></span
        >
        <NPopconfirm v-if="session.may('operator')" @positive-click="lift(pin)"
          ><template #trigger><NButton size="tiny">Lift…</NButton></template
          >Let rules and scope decide again about this? A run does it at once, under the guard.</NPopconfirm
        >
      </div>
      <Turn v-if="!entry" v-model:cursor="cursor" :next="data.next"
        ><span class="quiet">{{ count(data.total, 'pin') }}</span></Turn
      >
    </div>
  </section>
</template>

<style scoped>
.sheet {
  margin-bottom: 14px;
}
.pin {
  display: flex;
  gap: 14px;
  align-items: baseline;
  padding: 4px 0;
}
.pin + .pin {
  border-top: 1px solid var(--line);
}
.pin > a {
  width: 340px;
  flex: none;
}
.text {
  flex: 1;
  overflow-wrap: anywhere;
}
</style>
