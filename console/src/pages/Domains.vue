<script setup lang="ts">
// Login domains: which are verified, who uses them, how people sign in, and who waits.
import { NSkeleton } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Fault from '../parts/Fault.vue'
import Tag from '../parts/Tag.vue'
import { useLoad } from '../parts/use-load'
import { count, type Tone } from '../parts/words'
import { language, t } from '../state/language'
import { useLive } from '../state/live'

type Domain = Schemas['LoginDomain']

const { data, failure, again } = useLoad(() => unwrap(api.GET('/api/v1/domains')), [])
useLive().listen((event) => {
  if (['run', 'cloud', 'digest', ''].includes(event.kind)) void again()
})
const word: Record<Domain['verified'], string> = {
  verified: t('Verified'),
  unverified: t('Not verified'),
  unknown: t('Unknown'),
}
const tone = (d: Domain): Tone =>
  d.verified === 'verified' ? 'success' : d.verified === 'unverified' && (d.people || d.waiting) ? 'warning' : 'default'
const estimated = computed(() => !!data.value && data.value.looked < data.value.of)
const n = (value: number) =>
  estimated.value && value ? `≈ ${value.toLocaleString(language)}` : value.toLocaleString(language)
const from: Record<string, string> = {
  cloud: t('The cloud tells which are verified.'),
  settings: t('The cloud does not tell which are verified; the settings name them.'),
  '': t('Neither the cloud nor the settings tell which are verified: logins are held against nothing.'),
}
const waiting = computed(() => data.value?.items.reduce((sum, d) => sum + d.waiting, 0) ?? 0)
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Login domains</h1>
      <span v-if="data" class="quiet">{{ from[data.from] }}</span>
      <RouterLink class="push" :to="{ name: 'cloud' }">Cloud</RouterLink>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <NSkeleton v-else-if="!data" text :repeat="6" />
    <template v-else>
      <p v-if="data.away" class="bad" role="alert">Which are verified is not known now: {{ data.away }}</p>
      <p class="quiet" role="status">
        <template v-if="waiting"
          >{{ count(waiting, 'entry waits', 'entries wait') }} for a domain that is not verified: their logins are not
          sent.</template
        ><template v-else-if="data.from">Nobody waits for a domain.</template>
        <template v-if="estimated">
          The counts are estimated from {{ data.looked.toLocaleString(language) }} of
          {{ count(data.of, 'person', 'people') }}.</template
        >
      </p>
      <p v-if="!data.items.length" class="quiet">
        Nobody has a login yet, and the cloud lists no domain. Read the cloud with a forecast, or name its domains in
        the settings.
      </p>
      <table v-else class="sheet table">
        <thead>
          <tr>
            <th>Domain</th>
            <th>Verified</th>
            <th class="number">People</th>
            <th class="number">Linked</th>
            <th>They sign in with</th>
            <th>What to do</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in data.items" :key="d.name">
            <td>
              <RouterLink v-if="d.name" class="mono" :to="{ name: 'domain', params: { domain: d.name } }">{{
                d.name
              }}</RouterLink>
              <strong v-else>no domain</strong>
            </td>
            <td><Tag :text="word[d.verified]" :tone="tone(d)" /></td>
            <td class="number">
              {{ n(d.people)
              }}<template v-if="d.people - d.active"
                ><br /><span class="quiet">{{ n(d.people - d.active) }} suspended</span></template
              >
            </td>
            <td class="number">{{ n(d.linked) }}</td>
            <td>
              <div v-if="d.signOn === 'provider'"><strong>at an identity provider</strong></div>
              <template v-else-if="d.linked">
                <div v-if="d.signOn === 'some'"><strong>some at an identity provider</strong></div>
                <div v-if="d.digests">the directory's password: {{ n(d.digests) }}</div>
                <div v-if="d.linked - d.digests">a password of the cloud's own: {{ n(d.linked - d.digests) }}</div>
              </template>
              <span v-else class="quiet">nobody yet</span>
            </td>
            <td>
              <p v-if="d.verified === 'unverified' && d.verification">{{ d.verification }}</p>
              <p v-if="d.waiting">
                <RouterLink
                  :to="{ name: 'problems', query: { code: 'login-suffix-not-verified', text: `@${d.name}` } }"
                  >{{ count(d.waiting, 'entry waits', 'entries wait') }}</RouterLink>: verify the domain, or repair the
                logins with a <RouterLink :to="{ name: 'survey' }">survey</RouterLink>.
              </p>
              <span v-if="d.verified === 'verified' || (!d.waiting && !d.verification)" class="quiet">nothing</span>
            </td>
          </tr>
        </tbody>
      </table>
      <p class="quiet">
        How many sign in with the directory's password is what
        <RouterLink :to="{ name: 'passwords' }">Passwords</RouterLink>
        keeps going by digests.
      </p>
    </template>
  </div>
</template>

<style scoped>
.number {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
td p {
  margin: 0 0 6px;
  max-width: 460px;
  overflow-wrap: anywhere;
}
</style>
