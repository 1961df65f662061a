<script setup lang="ts">
// What the guard holds of a run: what it would take away, and the two ways on. With
// changes chosen, these alone are let through or discarded.
import { NButton, NInput, NModal, NPopconfirm } from 'naive-ui'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { api, unwrap, type Run } from '../api/client'
import { t } from '../state/language'
import { useSession } from '../state/session'
import { useAct } from './use-act'
import { count, heldText, rehearses, when } from './words'

const props = defineProps<{ run: Run; chosen: number[] }>()
const emit = defineEmits<{ show: []; next: [run: Run] }>()
const session = useSession()
const { busy, act } = useAct()
const asks = ref(false)
const reason = ref('')
const may = computed(() => session.may('operator') && !rehearses(props.run))
const which = computed(() => (props.chosen.length ? count(props.chosen.length, 'chosen change') : 'all'))
const path = computed(() => ({ path: { id: props.run.id } }))

async function release(): Promise<void> {
  const body = { changes: props.chosen }
  const next = await act(() => unwrap(api.POST('/api/v1/runs/{id}/release', { params: path.value, body })))
  if (next) emit('next', next)
}
async function discard(): Promise<void> {
  const body = { changes: props.chosen, reason: reason.value }
  const next = await act(() => unwrap(api.POST('/api/v1/runs/{id}/discard', { params: path.value, body })))
  if (next) {
    asks.value = false
    emit('next', next)
  }
}
</script>

<template>
  <section class="sheet note">
    <strong class="warn"
      >The guard {{ rehearses(run) ? t('would hold') : t('holds') }} what would {{ heldText(run) }}</strong
    >
    <p>
      <template v-if="run.counts.earlier && run.counts.earlierSince"
        >With {{ run.counts.earlier }} more of the same that went since {{ when(run.counts.earlierSince) }}, that is
        more than may go together.
      </template>
      <template v-else>That is more than one run may take away. </template>
      <template v-if="rehearses(run)"
        >In a run everything else goes on, and this waits until somebody decides.</template
      >
      <template v-else
        >Everything else went on. Release it if it is meant. Discard it if it is not: it stays in the cloud until the
        cause changes (<RouterLink :to="{ name: 'kept' }">what is kept so</RouterLink>). Or correct the cause, a scope,
        a rule or a right in the directory, and it falls away.</template
      >
      <template v-if="run.counts.hanging"
        >{{ ' ' }}What hangs on removals waits with them:
        {{ count(run.counts.hanging, 'membership or reference', 'memberships and references') }} to them stay as they
        are until then.</template
      >
    </p>
    <div class="row">
      <NButton size="small" @click="emit('show')">{{ may ? t('Show and choose') : t('Show it') }}</NButton>
      <template v-if="may">
        <NPopconfirm @positive-click="release"
          ><template #trigger
            ><NButton size="small" type="warning" :loading="busy">Release {{ which }}…</NButton></template
          >{{
            chosen.length ? t('Let the {0} through?', which) : t('Really {0} in the cloud?', heldText(run))
          }}</NPopconfirm
        >
        <NButton size="small" @click="asks = true">Discard {{ which }}…</NButton>
      </template>
    </div>
    <NModal v-model:show="asks" preset="card" title="Discard what is held" style="width: 480px">
      <p class="first">
        {{ chosen.length ? t('The {0} will not be made', which) : t('Kambrel will not {0}', heldText(run)) }}, until
        what caused it changes. Why it was discarded is shown with it, and stays on record.
      </p>
      <NInput
        v-model:value="reason"
        type="textarea"
        :rows="2"
        maxlength="500"
        placeholder="Why, for example: a read right was lost in the directory"
        :input-props="{ 'aria-label': t('Why it is discarded') }"
      />
      <div class="row foot">
        <NButton size="small" @click="asks = false">Not now</NButton>
        <NButton size="small" type="primary" :disabled="!reason.trim()" :loading="busy" @click="discard"
          >Discard</NButton
        >
      </div>
    </NModal>
  </section>
</template>

<style scoped>
.first {
  margin: 0 0 10px;
}
.foot {
  margin-top: 12px;
  justify-content: flex-end;
}
</style>
