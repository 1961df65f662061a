<script setup lang="ts">
// How the people of one login domain sign in: the exchange with an identity provider, step by step,
// and the way back.
import { NSkeleton } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap } from '../api/client'
import ClaimsEditor from '../domain/ClaimsEditor.vue'
import CloudSide from '../domain/CloudSide.vue'
import Desktops from '../domain/Desktops.vue'
import ProviderEditor from '../domain/ProviderEditor.vue'
import SignInSwitch from '../domain/SignInSwitch.vue'
import SignInTests from '../domain/SignInTests.vue'
import { signOnWords, stateWord } from '../domain/words'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useLoad } from '../parts/use-load'
import { when } from '../parts/words'
import { useLive } from '../state/live'

const props = defineProps<{ domain: string }>()
const { data, failure, again } = useLoad(
  () => unwrap(api.GET('/api/v1/domains/{domain}/sign-in', { params: { path: { domain: props.domain } } })),
  [() => props.domain],
)
useLive().listen((event) => {
  if (['federation', 'cloud', ''].includes(event.kind)) void again()
})
// Kambrel itself needs no exchange of files.
const own = computed(() => !!data.value?.provider?.own)
const step = (n: number) => (data.value?.cloud && !own.value ? n + 1 : n)
const word = computed(() => data.value && stateWord(data.value))
</script>

<template>
  <div>
    <div class="page-head">
      <h1 class="mono">{{ domain }}</h1>
      <template v-if="data && word">
        <Tag v-bind="word" />
        <span class="quiet"
          >{{ signOnWords[data.signOn]
          }}<template v-if="data.changedAt"
            >; last said by {{ data.changedBy }}, {{ when(data.changedAt) }}</template
          ></span
        >
      </template>
      <RouterLink class="push" :to="{ name: 'domains' }">All login domains</RouterLink>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="8" />
    <template v-else>
      <p v-if="data.detail" class="bad" role="alert">{{ data.detail }}</p>
      <p v-if="data.away" class="bad" role="alert">
        The cloud cannot be asked now: {{ data.away }}. Going back to passwords is kept all the same, and told to it as
        soon as it answers.
      </p>
      <p v-else-if="!data.offered" class="note">
        The cloud lets nobody set how people sign in by its interface. Set it in the cloud's own console; a provider can
        be looked at and tested here all the same, by a response that a browser has sent.
      </p>
      <div class="stack">
        <CloudSide v-if="data.cloud && !own" :cloud="data.cloud" :domain="domain" />
        <ProviderEditor :step="step(1)" :federation="data" @changed="again" />
        <ClaimsEditor :step="step(2)" :federation="data" @changed="again" />
        <SignInTests :step="step(3)" :federation="data" @changed="again" />
        <SignInSwitch :step="step(4)" :federation="data" @changed="again" />
        <Desktops v-if="data.provider" :key="data.provider.entityId" :domain="domain" />
      </div>
    </template>
  </div>
</template>

<style scoped>
h1.mono {
  font-size: 17px;
}
.stack {
  display: flex;
  flex-direction: column;
  gap: 14px;
}
</style>
