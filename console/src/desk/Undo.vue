<script setup lang="ts">
// What of a run can be put back: shown first, and done on a second word.
import { NButton, NCheckbox, NModal } from 'naive-ui'
import { computed, ref, shallowRef } from 'vue'

import { api, unwrap, type Run, type Schemas } from '../api/client'
import { useAct } from '../parts/use-act'
import { count, shortTarget, show } from '../parts/words'
import { t } from '../state/language'
import { useSession } from '../state/session'

const props = defineProps<{ run: Run }>()
const emit = defineEmits<{ next: [run: number] }>()
const session = useSession()
const { busy, act } = useAct()
const shown = shallowRef<Schemas['Undo'] | null>(null)
const returns = ref(false)
const path = computed(() => ({ path: { id: props.run.id } }))

async function ask(): Promise<void> {
  const preview = await act(() => unwrap(api.POST('/api/v1/runs/{id}/undo', { params: path.value, body: {} })))
  if (!preview) return
  returns.value = false
  shown.value = preview
}
async function undo(): Promise<void> {
  const body = { do: true, returnSettings: returns.value }
  const done = await act(() => unwrap(api.POST('/api/v1/runs/{id}/undo', { params: path.value, body })))
  if (!done?.nextRun) return
  shown.value = null
  emit('next', done.nextRun)
}

const back = computed(() => (shown.value?.items ?? []).filter((i) => i.outcome === 'back'))
const cannot = computed(() => (shown.value?.items ?? []).filter((i) => i.outcome === 'cannot'))
function what(item: Schemas['UndoItem']): string {
  if (item.target === 'scope') return item.kind === 'user' ? t('the account') : t('the {0}', item.kind)
  const member = item.member ? ` ${item.member.name || item.member.value}` : ''
  return shortTarget(item.target) + member
}
</script>

<template>
  <template v-if="session.may('operator') && run.ended">
    <NButton size="small" :loading="busy" @click="ask">Undo…</NButton>
    <NModal
      :show="Boolean(shown)"
      preset="card"
      :title="t('Undo run {0}', run.id)"
      style="width: 880px"
      @update:show="(on: boolean) => !on && (shown = null)"
    >
      <template v-if="shown">
        <p>
          <strong>{{ count(shown.back, 'thing') }}</strong> would go back, {{ shown.already }} are as they were already,
          {{ shown.cannot }} cannot go back. A run does it, under the guard; the undo can be undone too.
        </p>
        <p v-if="shown.settings && session.may('administrator')">
          <NCheckbox v-model:checked="returns"
            >Return to the settings too: make revision {{ shown.settings.before }} active again, by which runs worked
            before. Revision {{ shown.settings.active }} of {{ shown.settings.by }} differs from it in
            {{ count(shown.settings.differences, 'place') }}.</NCheckbox
          >
        </p>
        <p class="quiet">
          {{
            returns
              ? t('What the returned rules give by themselves is not pinned.')
              : t(
                  'The rules would do the same again at once, so what is put back stays pinned until somebody lifts it, or the rules come to the same.',
                )
          }}
        </p>
        <div v-if="back.length" class="list">
          <table>
            <thead>
              <tr>
                <th>Of</th>
                <th>What</th>
                <th>Now</th>
                <th>Goes back to</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="(item, i) in back" :key="i">
                <td>{{ item.name }}</td>
                <td :title="item.target">{{ what(item) }}</td>
                <td>
                  <span class="taken">{{ show(item.now) || t('nothing') }}</span>
                </td>
                <td>
                  <span class="added">{{ show(item.was) || t('nothing') }}</span>
                  <span v-if="item.why" class="quiet"> {{ item.why }}</span>
                </td>
              </tr>
            </tbody>
          </table>
          <p v-if="shown.back > back.length" class="quiet">and {{ shown.back - back.length }} more</p>
        </div>
        <template v-if="shown.cannot">
          <h3>Cannot go back</h3>
          <ul>
            <li v-for="reason in shown.reasons" :key="reason.why">
              {{ count(reason.count, 'thing') }}: {{ reason.why
              }}<span class="quiet">
                ({{
                  cannot
                    .filter((i) => i.why === reason.why)
                    .slice(0, 3)
                    .map((i) => t('{0} of {1}', what(i), i.name))
                    .join('; ')
                }})</span
              >
            </li>
          </ul>
        </template>
        <div class="row">
          <NButton size="small" type="primary" :loading="busy" :disabled="!shown.back && !returns" @click="undo">{{
            returns ? t('Return and undo') : t('Undo')
          }}</NButton><NButton size="small" @click="shown = null">Leave it</NButton>
        </div>
      </template>
    </NModal>
  </template>
</template>

<style scoped>
.list {
  max-height: 42vh;
  overflow: auto;
  margin-bottom: 12px;
}
table {
  border-collapse: collapse;
  width: 100%;
  font-size: 13px;
}
th {
  text-align: left;
  font-weight: 500;
  color: var(--ink-3);
  padding: 2px 12px 4px 0;
}
td {
  border-top: 1px solid var(--line);
  padding: 3px 12px 3px 0;
  vertical-align: top;
  overflow-wrap: anywhere;
}
h3 {
  font-size: 14px;
  margin: 0 0 4px;
}
.taken {
  background: var(--taken);
  padding: 0 4px;
  border-radius: 3px;
}
.added {
  background: var(--added);
  padding: 0 4px;
  border-radius: 3px;
}
</style>
