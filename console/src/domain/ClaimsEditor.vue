<script setup lang="ts">
// What an assertion says of people: how each value is made of the resource in the cloud, tried on
// anybody.
import { NButton, NInput, NPopconfirm, NSelect } from 'naive-ui'
import { computed, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Tag from '../parts/Tag.vue'
import { useAct } from '../parts/use-act'
import { t } from '../state/language'
import { useSession } from '../state/session'
import AssertionFields from './AssertionFields.vue'
import { madeOf } from './words'

type Claims = Schemas['Claims']
type Claim = Schemas['Claim']
type Way = 'from' | 'formula' | 'always'

const props = defineProps<{ federation: Schemas['Federation']; step: number }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const { busy, act } = useAct()
const may = computed(() => session.may('administrator'))

const draft = ref<Claims | null>(null)
const person = ref('')
const tried = shallowRef<Schemas['TriedClaims'] | null>(null)
const refused = ref('')
const path = computed(() => ({ path: { domain: props.federation.domain } }))
const shown = computed(() => draft.value ?? props.federation.claims)
watch([draft, person], () => (tried.value = null), { deep: true })

const ways = [
  { value: 'from', label: t('from') },
  { value: 'formula', label: t('formula') },
  { value: 'always', label: t('always') },
]
const wayOf = (claim: Claim): Way =>
  claim.formula !== undefined ? 'formula' : claim.always !== undefined ? 'always' : 'from'
function setWay(claim: Claim, way: Way): void {
  const text = claim.from ?? claim.formula ?? claim.always ?? ''
  for (const other of ways) delete claim[other.value as Way]
  claim[way] = text
}
function edit(): void {
  draft.value = JSON.parse(JSON.stringify(props.federation.claims)) as Claims
}
const label = (name: string) => props.federation.cloud?.wanted.find((w) => w.name === name)?.friendly
async function attempt(): Promise<void> {
  refused.value = ''
  try {
    tried.value = await unwrap(
      api.POST('/api/v1/domains/{domain}/claims/try', {
        params: path.value,
        body: { person: person.value.trim(), ...(draft.value ? { claims: draft.value } : {}) },
      }),
    )
  } catch (e) {
    refused.value = (e as Error).message
  }
}
async function done(work: () => Promise<unknown>): Promise<void> {
  if ((await act(work)) === undefined) return
  draft.value = null
  emit('changed')
}
const keep = () =>
  done(() => unwrap(api.PUT('/api/v1/domains/{domain}/claims', { params: path.value, body: draft.value! })))
const reset = () => done(() => unwrap(api.DELETE('/api/v1/domains/{domain}/claims', { params: path.value })))
</script>

<template>
  <section class="sheet" aria-labelledby="claims-title">
    <header>
      <h2 id="claims-title">{{ step }}. Say what an assertion says of people</h2>
      <div v-if="may" class="row">
        <template v-if="!draft">
          <NPopconfirm v-if="!federation.default" @positive-click="reset">
            <template #trigger><NButton size="small" quaternary>As the cloud asks…</NButton></template>
            Go back to the claims that follow from the cloud's metadata? A test is needed anew.
          </NPopconfirm>
          <NButton size="small" @click="edit">Change…</NButton>
        </template>
        <template v-else>
          <NButton size="small" quaternary @click="draft = null">Leave it as it was</NButton>
          <NButton size="small" type="primary" :loading="busy" @click="keep">Keep these claims</NButton>
        </template>
      </div>
    </header>
    <div class="body">
      <p class="quiet means">
        {{
          federation.default
            ? t('These follow from what the cloud asks for.')
            : t('An operator has said so, in the place of what follows from the cloud’s metadata.')
        }}
        {{
          federation.provider?.own
            ? t('Kambrel says this of whoever signs in.')
            : t('A test holds what the provider really sends against them; Kambrel itself sends nothing of it.')
        }}
      </p>
      <table class="list">
        <thead>
          <tr>
            <th scope="col">Claim</th>
            <th scope="col">Made of the person's resource in the cloud</th>
            <th v-if="draft"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(claim, i) in [shown.subject, ...shown.claims]" :key="i">
            <td>
              <template v-if="i === 0"
                ><strong>Subject</strong>
                <div class="quiet mono clip">{{ shown.format }}</div></template
              >
              <NInput
                v-else-if="draft"
                v-model:value="claim.name"
                size="small"
                placeholder="urn:oid:…"
                :input-props="{ 'aria-label': t('Name of claim {0}', i), spellcheck: 'false' }"
              />
              <template v-else
                ><strong>{{ label(claim.name ?? '') || claim.name }}</strong>
                <div v-if="label(claim.name ?? '')" class="quiet mono clip">{{ claim.name }}</div></template
              >
            </td>
            <td>
              <div v-if="draft" class="made">
                <NSelect
                  :value="wayOf(claim)"
                  size="small"
                  :options="i === 0 ? ways.slice(0, 2) : ways"
                  :input-props="{ 'aria-label': t('How it is made') }"
                  @update:value="(way: Way) => setWay(claim, way)"
                />
                <NInput
                  v-model:value="claim[wayOf(claim)]"
                  size="small"
                  :input-props="{
                    'aria-label': i === 0 ? t('Subject') : t('Value of claim {0}', i),
                    spellcheck: 'false',
                  }"
                />
              </div>
              <span v-else class="mono">{{ madeOf(claim) }}</span>
            </td>
            <td v-if="draft">
              <NButton v-if="i > 0" size="tiny" quaternary @click="draft.claims.splice(i - 1, 1)">Take out</NButton>
            </td>
          </tr>
        </tbody>
      </table>
      <NButton v-if="draft" size="tiny" class="add" @click="draft.claims.push({ name: '', from: '' })"
        >Add a claim</NButton
      >
      <form class="row try" @submit.prevent="attempt">
        <NInput
          v-model:value="person"
          size="small"
          placeholder="a login, a distinguished name or an id"
          :input-props="{ 'aria-label': t('Person to try the claims on'), spellcheck: 'false' }"
        />
        <NButton size="small" attr-type="submit" :disabled="!person.trim()">Try on this person</NButton>
      </form>
      <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      <template v-if="tried">
        <p>
          <strong>{{ tried.person.name }}</strong> <Tag :text="tried.person.login ?? ''" tone="default" />
        </p>
        <AssertionFields :fields="tried.fields" />
      </template>
    </div>
  </section>
</template>

<style scoped>
.made {
  display: grid;
  grid-template-columns: 110px minmax(0, 1fr);
  gap: 6px;
}
.try {
  margin-top: 12px;
}
.try .n-input {
  max-width: 380px;
}
.add {
  margin-top: 8px;
}
td .clip {
  max-width: 420px;
}
</style>
