<script setup lang="ts">
// The identity provider of a domain: looked at first, and believed for a fingerprint that somebody
// has compared.
import { NButton, NCheckbox, NInput, NPopconfirm, NRadioButton, NRadioGroup } from 'naive-ui'
import { computed, reactive, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { useAct } from '../parts/use-act'
import { when } from '../parts/words'
import Verdicts from '../setup/Verdicts.vue'
import { t } from '../state/language'
import { useSession } from '../state/session'
import { grouped } from './words'

const props = defineProps<{ federation: Schemas['Federation']; step: number }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const { busy, act } = useAct()

const form = reactive({ way: 'url' as 'url' | 'file' | 'own', url: '', metadata: '', compared: false, unsigned: false })
const tried = shallowRef<Schemas['IdentityProvider'] | null>(null)
const refused = ref('')
const editing = ref(false)
watch([() => form.url, () => form.metadata, () => form.way], () => {
  tried.value = null // it was of something else
  form.compared = form.unsigned = false
  refused.value = ''
})
const path = computed(() => ({ path: { domain: props.federation.domain } }))
const given = (trust: boolean): Schemas['ProviderMetadata'] => ({
  ...(form.way === 'url' ? { url: form.url.trim() } : { metadata: form.metadata }),
  ...(trust && form.compared ? { fingerprint: tried.value?.compare } : {}),
  ...(trust && form.unsigned ? { unsigned: true } : {}),
})
async function attempt(trust: boolean): Promise<void> {
  refused.value = ''
  try {
    tried.value = await unwrap(
      api.POST('/api/v1/domains/{domain}/provider/try', { params: path.value, body: given(trust) }),
    )
  } catch (e) {
    refused.value = (e as Error).message
  }
}
// What is compared or accepted changes what is said of it.
watch([() => form.compared, () => form.unsigned], () => {
  if (tried.value) void attempt(true)
})
const wrong = computed(() => !tried.value || tried.value.verdicts.some((v) => v.outcome === 'bad'))
async function done(work: () => Promise<unknown>): Promise<void> {
  if ((await act(work)) === undefined) return
  editing.value = false
  tried.value = null
  emit('changed')
}
const set = () =>
  done(() => unwrap(api.PUT('/api/v1/domains/{domain}/provider', { params: path.value, body: given(true) })))
const own = () => done(() => unwrap(api.PUT('/api/v1/domains/{domain}/provider/own', { params: path.value })))
const renew = () => done(() => unwrap(api.POST('/api/v1/own-provider/keys')))
const refresh = () => done(() => unwrap(api.POST('/api/v1/domains/{domain}/provider/refresh', { params: path.value })))
const remove = () => done(() => unwrap(api.DELETE('/api/v1/domains/{domain}/provider', { params: path.value })))
function other(): void {
  form.url = props.federation.provider?.url ?? ''
  editing.value = true
}
const may = computed(() => session.may('administrator'))
const edits = computed(() => may.value && (editing.value || !props.federation.provider))
async function read(event: Event): Promise<void> {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (file) form.metadata = await file.text()
}
</script>

<template>
  <section class="sheet" aria-labelledby="provider-title">
    <header>
      <h2 id="provider-title">{{ step }}. Choose the identity provider</h2>
      <div v-if="federation.provider && may && !editing" class="row">
        <NButton v-if="federation.provider.url" size="small" :loading="busy" @click="refresh">Fetch now</NButton>
        <NPopconfirm v-if="federation.provider.own" @positive-click="renew">
          <template #trigger><NButton size="small">Next key…</NButton></template>
          Make the next key now? Its certificate is told to the cloud first, and the one before is told a while longer.
        </NPopconfirm>
        <NButton size="small" @click="other">Give other metadata…</NButton>
        <NPopconfirm v-if="federation.signOn === 'password'" @positive-click="remove">
          <template #trigger><NButton size="small" quaternary>Forget it…</NButton></template>
          Forget this identity provider? Nobody signs in there.
        </NPopconfirm>
      </div>
    </header>
    <div class="body">
      <template v-if="federation.provider && !editing">
        <dl class="facts">
          <dt>Entity</dt>
          <dd>
            <span class="mono">{{ federation.provider.entityId }}</span><span
              v-if="federation.provider.own"
              class="quiet"
              >, Kambrel itself</span
            >
          </dd>
          <template v-if="federation.provider.url">
            <dt>Fetched</dt>
            <dd>
              {{ when(federation.provider.fetched) }} from <span class="mono">{{ federation.provider.url }}</span>,
              every six hours
              <div v-if="federation.provider.fetchFailure" class="bad">
                What came last is not taken: {{ federation.provider.fetchFailure }}
              </div>
            </dd>
          </template>
        </dl>
        <Verdicts :verdicts="federation.provider.verdicts" />
        <div v-if="federation.offer" class="note">
          <p>
            The provider offers other metadata, which is not believed. If its administrators say that it is theirs, give
            it with the fingerprint that they tell you:
            <span class="mono">{{ grouped(federation.offer.compare) }}</span>
          </p>
          <Verdicts :verdicts="federation.offer.verdicts" />
        </div>
      </template>
      <p v-else-if="!may" class="quiet">There is none. An administrator takes its metadata.</p>
      <form v-if="edits" @submit.prevent="attempt(true)">
        <NRadioGroup v-model:value="form.way" size="small" name="way" aria-label="Where the metadata is">
          <NRadioButton value="url">At a URL</NRadioButton>
          <NRadioButton value="file">As a file</NRadioButton>
          <NRadioButton value="own">Kambrel itself</NRadioButton>
        </NRadioGroup>
        <template v-if="form.way === 'own'">
          <p class="quiet">
            For organizations that have no sign-in service: people sign in at this service with the password of their
            directory, which an agent tries there, or with a ticket of their domain controller where the service has a
            key for it. Its key is made now, kept sealed, and renewed by itself.
          </p>
          <div class="row">
            <NButton type="primary" size="small" :loading="busy" @click="own">Take Kambrel itself</NButton>
            <NButton v-if="federation.provider" size="small" quaternary @click="editing = false"
              >Leave it as it is</NButton
            >
          </div>
        </template>
        <NInput
          v-else-if="form.way === 'url'"
          v-model:value="form.url"
          placeholder="https://login.brisling.example/metadata"
          :input-props="{ 'aria-label': t('URL of the metadata'), spellcheck: 'false' }"
        />
        <template v-else>
          <label class="file"
            ><input
              type="file"
              accept=".xml,text/xml,application/xml,application/samlmetadata+xml"
              @change="read"
            /><span class="link">Choose a file…</span></label
          >
          <NInput
            v-model:value="form.metadata"
            type="textarea"
            :rows="5"
            placeholder="or paste it here"
            :input-props="{ 'aria-label': t('Metadata of the provider'), spellcheck: 'false' }"
          />
        </template>
        <div v-if="form.way !== 'own'" class="row">
          <NButton
            size="small"
            attr-type="submit"
            :disabled="form.way === 'url' ? !form.url.trim() : !form.metadata.trim()"
            >Look at it</NButton
          >
          <NButton v-if="federation.provider" size="small" quaternary @click="editing = false"
            >Leave it as it is</NButton
          >
        </div>
        <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
        <template v-if="tried">
          <Verdicts :verdicts="tried.verdicts" />
          <div class="compare">
            <div>
              Compare this with what the provider's administrators tell you, by telephone or on paper, not by the file
              itself:
            </div>
            <div class="mono print">{{ grouped(tried.compare) }}</div>
            <NCheckbox v-model:checked="form.compared">I have compared it, and it is the same</NCheckbox>
            <NCheckbox v-if="!tried.signedBy" v-model:checked="form.unsigned"
              >Take it although it is not signed; each new certificate is then compared by hand</NCheckbox
            >
          </div>
          <NButton type="primary" size="small" :disabled="wrong" :loading="busy" @click="set"
            >Take this provider</NButton
          >
          <p class="quiet">Nobody's sign-in changes by it.</p>
        </template>
      </form>
    </div>
  </section>
</template>

<style scoped>
form {
  display: flex;
  flex-direction: column;
  gap: 10px;
  align-items: flex-start;
}
form > * {
  width: 100%;
}
form > .n-radio-group,
form > .n-button {
  width: auto;
}
.compare {
  border-left: 4px solid var(--brass);
  padding: 6px 12px;
  display: flex;
  flex-direction: column;
  gap: 6px;
}
.print {
  font-size: 14px;
  overflow-wrap: anywhere;
}
.note {
  margin: 10px 0 0;
}
.link {
  color: var(--accent);
  cursor: pointer;
}
</style>
