<script setup lang="ts">
// When runs start by themselves, as an edit of the draft, with when the next ones would be.
import { NButton, NCheckbox, NCheckboxGroup, NRadio, NRadioGroup } from 'naive-ui'
import { computed, onMounted } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { useLoad } from '../parts/use-load'
import { when } from '../parts/words'
import { useDraft } from '../state/draft'
import { t } from '../state/language'
import { useSession } from '../state/session'
import DraftField from './DraftField.vue'

const draft = useDraft()
const session = useSession()
const may = computed(() => session.may('operator'))
const schedule = computed(() => draft.document?.schedule)
onMounted(() => void draft.load())

const days = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun']
const intervals = ['30s', '2m', '10m', '1h', 'off']
const live = computed(() => schedule.value?.live ?? (schedule.value?.every === 'off' ? 'off' : 'on'))

function change(edit: (schedule: Schemas['Schedule']) => void): void {
  if (draft.document) edit(draft.document.schedule)
}
const hours = (edit: (hours: Schemas['Hours']) => void) =>
  change((s) => {
    if (s.hours) edit(s.hours)
  })
function within(on: boolean): void {
  change((s) => {
    if (on) s.hours = { from: '06:00', to: '20:00', days: days.slice(0, 5) }
    else delete s.hours
  })
}
function optional(name: 'full' | 'zone', value: string): void {
  change((s) => {
    if (value.trim()) s[name] = value.trim()
    else delete s[name]
  })
}
// What it would do is worked out by the service, which knows its zone and the last run.
const times = useLoad(
  async () => (schedule.value ? await unwrap(api.POST('/api/v1/schedule/times', { body: schedule.value })) : null),
  [() => JSON.stringify(schedule.value ?? null)],
)
const next = computed(() => (times.data.value?.next ?? []).map((at) => when(at)).join(', '))
</script>

<template>
  <template v-if="schedule">
    <dl class="form">
      <dt>A run every</dt>
      <dd class="row">
        <DraftField
          :value="schedule.every"
          class="short"
          label="Time between runs"
          @change="(every) => change((s) => (s.every = every.trim()))"
        /><NButton
          v-for="one in intervals"
          :key="one"
          size="tiny"
          :disabled="!may"
          :aria-pressed="schedule.every === one"
          @click="change((s) => (s.every = one))"
          >{{ one }}</NButton
        >
      </dd>
      <dt>Live</dt>
      <dd>
        <NRadioGroup
          :value="live"
          name="live"
          :disabled="!may"
          @update:value="(value: string) => change((s) => (s.live = value))"
        >
          <NRadio value="on">A change in a directory that is watched starts a run at once</NRadio>
          <NRadio value="off">Off</NRadio>
        </NRadioGroup>
      </dd>
      <dt>Hours</dt>
      <dd>
        <div class="row">
          <NCheckbox :checked="Boolean(schedule.hours)" :disabled="!may" @update:checked="within"
            >Runs begin by themselves only from</NCheckbox
          >
          <template v-if="schedule.hours"
            ><DraftField
              :value="schedule.hours.from"
              class="short"
              label="From"
              @change="(from) => hours((h) => (h.from = from.trim()))"
            />
            to
            <DraftField
              :value="schedule.hours.to"
              class="short"
              label="To"
              @change="(to) => hours((h) => (h.to = to.trim()))"
            />
          </template>
        </div>
        <NCheckboxGroup
          v-if="schedule.hours"
          :value="schedule.hours.days?.length ? schedule.hours.days : days"
          :disabled="!may"
          @update:value="
            (chosen: (string | number)[]) =>
              hours((h) => {
                h.days = chosen.length === 7 ? [] : days.filter((day) => chosen.includes(day))
              })
          "
        >
          <NCheckbox v-for="day in days" :key="day" :value="day" :label="day" />
        </NCheckboxGroup>
        <p v-if="schedule.hours" class="quiet">
          Out of them nothing begins by itself, also no run of a live change. What was missed is made up once when they
          begin.
        </p>
      </dd>
      <dt>Everything compared</dt>
      <dd class="row">
        each day at
        <DraftField
          :value="schedule.full"
          class="short"
          label="Everything compared at"
          placeholder="never"
          @change="(value) => optional('full', value)"
        /><span class="quiet">reads both sides whole; the hours do not matter</span>
      </dd>
      <dt>Time zone</dt>
      <dd>
        <DraftField
          :value="schedule.zone"
          class="zone"
          label="Time zone"
          placeholder="that of the service"
          @change="(value) => optional('zone', value)"
        />
      </dd>
    </dl>
    <div class="outcome" role="status">
      <ul v-if="times.data.value?.faults.length" class="bad">
        <li v-for="fault in times.data.value.faults" :key="fault.path + fault.message">
          {{ fault.path }}: {{ fault.message }}
        </li>
      </ul>
      <template v-else-if="times.data.value">
        <p>
          <strong>Next runs, in your time</strong>
          {{ next || (live === 'on' ? t('with the next change in a directory') : t('none: runs start by hand only')) }}
        </p>
        <p v-if="times.data.value.full"><strong>Next full</strong> {{ when(times.data.value.full) }}</p>
        <p class="quiet">It counts once the draft is activated.</p>
      </template>
    </div>
  </template>
</template>

<style scoped>
.form {
  display: grid;
  grid-template-columns: 150px 1fr;
  gap: 10px 12px;
  margin: 0;
  align-items: baseline;
}
.form dt {
  font-weight: 500;
}
.form dd {
  margin: 0;
}
.short {
  width: 90px;
}
.zone {
  width: 220px;
}
.outcome {
  border-top: 1px solid var(--line);
  margin-top: 14px;
  padding-top: 6px;
}
.outcome p {
  margin: 4px 0;
}
</style>
