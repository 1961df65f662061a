<script setup lang="ts">
// From an empty service to people who are kept in step: what is done, and what comes next.
import { NButton, NSkeleton } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap } from '../api/client'
import Fault from '../parts/Fault.vue'
import StepMark from '../parts/StepMark.vue'
import { useLoad } from '../parts/use-load'
import { t } from '../state/language'
import { useLive } from '../state/live'
import { placeOfStep } from '../setup/first-day'

const { data, failure, loading, again } = useLoad(() => unwrap(api.GET('/api/v1/first-day')), [])
useLive().listen(() => void again())
const parts = computed(() => {
  const steps = data.value?.steps ?? []
  const all = [
    { title: t('To the first run'), about: t('In this order.'), steps: steps.filter((step) => !step.later) },
    { title: t('To sleep well'), about: t('Later, in any order.'), steps: steps.filter((step) => step.later) },
  ].map((part) => ({ ...part, done: part.steps.filter((step) => step.done).length }))
  return data.value?.begun ? all.reverse() : all // what is open before what is done
})
</script>

<template>
  <div>
    <div class="page-head">
      <h1>First day</h1>
      <span class="quiet">Nothing is remembered here: each step is looked at. Leave it, and go on when you like.</span>
      <span class="push" />
      <NButton size="small" :loading="loading" @click="again">Look again</NButton>
    </div>
    <Fault v-if="failure && !data" :failure="failure" @again="again" />
    <section v-else-if="!data" class="sheet" aria-busy="true">
      <div class="body"><NSkeleton text :repeat="9" /></div>
    </section>
    <template v-else>
      <p v-if="data.begun" role="status" class="told">
        {{
          data.next
            ? t('The first run has ended well: people are kept in step. What is open can come later, and should.')
            : t('All is done.')
        }}
      </p>
      <section v-for="part in parts" :key="part.title" class="sheet part" :aria-label="part.title">
        <header>
          <h2>{{ part.title }}</h2>
          <span class="quiet">{{ part.about }} {{ part.done }} of {{ part.steps.length }} done.</span>
        </header>
        <ol class="body">
          <li
            v-for="(step, i) in part.steps"
            :key="step.key"
            :data-next="step.key === data.next"
            :aria-current="step.key === data.next ? 'step' : undefined"
          >
            <StepMark :done="step.done" :next="step.key === data.next" :text="step.later ? '·' : i + 1" />
            <div class="what">
              <span class="text">{{ step.text }}</span><span class="visually-hidden">{{
                step.done ? t(', done') : t(', to do')
              }}</span>
              <span v-if="step.detail" class="quiet detail">{{ step.detail }}</span>
              <p v-if="step.do && (step.key === data.next || step.later)">{{ step.do }}</p>
            </div>
            <RouterLink :to="placeOfStep(step).to">{{ placeOfStep(step).text }}</RouterLink>
          </li>
        </ol>
      </section>
    </template>
  </div>
</template>

<style scoped>
.told {
  margin: 0 0 12px;
}
.part {
  margin-bottom: 14px;
}
ol {
  list-style: none;
  margin: 0;
  padding-top: 0;
  padding-bottom: 4px;
}
li {
  display: flex;
  align-items: baseline;
  gap: 10px;
  padding: 7px 0;
}
li + li {
  border-top: 1px solid var(--line);
}
.what {
  flex: 1;
  min-width: 0;
  overflow-wrap: anywhere;
}
.what p {
  margin: 3px 0 0;
  color: var(--ink-2);
  border-left: 3px solid var(--brass);
  padding-left: 8px;
}
.detail {
  margin-left: 10px;
}
[data-next='true'] .text {
  font-weight: 650;
}
</style>
