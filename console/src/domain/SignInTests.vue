<script setup lang="ts">
// Tests of a sign-in: one person, before anybody depends on it.
import { NButton, NInput } from 'naive-ui'
import { computed, onUnmounted, ref, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Tag from '../parts/Tag.vue'
import { when } from '../parts/words'
import { t } from '../state/language'
import { useSession } from '../state/session'
import AssertionFields from './AssertionFields.vue'
import { testWords } from './words'

type Test = Schemas['SignInTest']

const props = defineProps<{ federation: Schemas['Federation']; step: number }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const may = computed(() => session.may('administrator'))

const person = ref('')
const response = ref('')
const pasting = ref(false)
const refused = ref('')
const busy = ref(false)
const chosen = ref(0)
const open = computed<Test | undefined>(
  () => props.federation.tests.find((t) => t.id === chosen.value) ?? props.federation.tests[0],
)
// While somebody is to sign in, it is asked for what came of it.
let timer = 0
watch(
  () => open.value?.state,
  (state) => {
    window.clearInterval(timer)
    if (state === 'waiting') timer = window.setInterval(() => emit('changed'), 1500)
  },
  { immediate: true },
)
onUnmounted(() => window.clearInterval(timer))

async function begin(): Promise<void> {
  refused.value = ''
  busy.value = true
  try {
    const test = await unwrap(
      api.POST('/api/v1/domains/{domain}/tests', {
        params: { path: { domain: props.federation.domain } },
        body: { person: person.value.trim(), ...(pasting.value ? { response: response.value.trim() } : {}) },
      }),
    )
    chosen.value = test.id
    response.value = ''
    emit('changed')
  } catch (e) {
    refused.value = (e as Error).message
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section class="sheet" aria-labelledby="tests-title">
    <header>
      <h2 id="tests-title">{{ step }}. Test the sign-in of one person</h2>
    </header>
    <div class="body">
      <p v-if="!federation.provider" class="quiet">Take the provider's metadata first.</p>
      <form v-else-if="may" @submit.prevent="begin">
        <div class="row">
          <NInput
            v-model:value="person"
            size="small"
            class="who"
            placeholder="a login, a distinguished name or an id"
            :input-props="{ 'aria-label': t('Person to test'), spellcheck: 'false' }"
          />
          <NButton
            size="small"
            type="primary"
            attr-type="submit"
            :loading="busy"
            :disabled="!person.trim() || (pasting && !response.trim())"
            >{{ pasting ? t('Look at the response') : t('Begin a test') }}</NButton
          >
          <NButton size="small" quaternary @click="pasting = !pasting">{{
            pasting ? t('Have the cloud try') : t('Paste a response…')
          }}</NButton>
        </div>
        <NInput
          v-if="pasting"
          v-model:value="response"
          type="textarea"
          :rows="4"
          placeholder="the value of SAMLResponse that a browser has sent"
          :input-props="{ 'aria-label': t('Response'), spellcheck: 'false' }"
        />
      </form>
      <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      <template v-if="open">
        <p class="row" role="status">
          <Tag v-bind="testWords[open.state]" />
          <strong>{{ open.person.login }}</strong>
          <span class="quiet"
            >begun by {{ open.by }}, {{ when(open.began)
            }}<template v-if="open.answered">, answered {{ when(open.answered) }}</template></span
          >
          <Tag
            v-if="open.state === 'accepted' && !open.counts"
            text="of another provider or other claims than now"
            tone="warning"
          />
        </p>
        <p v-if="open.state === 'waiting'">
          Open this and sign in as {{ open.person.name }}; no session is made of it:
          <a :href="open.url" target="_blank" rel="noopener" class="mono">{{ open.url }}</a>
          <span class="quiet"> until {{ when(open.expires) }}</span>
        </p>
        <p v-if="open.cloudAccepted === false" class="bad">The cloud says: {{ open.cloudReason }}</p>
        <AssertionFields v-if="open.fields.length" :fields="open.fields" />
      </template>
      <details v-if="federation.tests.length > 1">
        <summary>Earlier tests</summary>
        <ul>
          <li v-for="test in federation.tests" :key="test.id">
            <NButton text size="small" @click="chosen = test.id"
              >{{ test.person.login }}, {{ when(test.began) }}</NButton
            >
            {{ ' ' }}<Tag v-bind="testWords[test.state]" />
          </li>
        </ul>
      </details>
    </div>
  </section>
</template>

<style scoped>
form {
  display: flex;
  flex-direction: column;
  gap: 8px;
  margin-bottom: 8px;
}
.who {
  max-width: 380px;
}
p {
  margin: 8px 0;
}
details {
  margin-top: 10px;
}
ul {
  padding-left: 18px;
  margin: 6px 0 0;
}
</style>
