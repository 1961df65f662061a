<script setup lang="ts">
// Where the cloud is and with which token: tried first, then reached so from now on.
import { NButton, NForm, NFormItem, NInput, NPopconfirm, useMessage } from 'naive-ui'
import { computed, reactive, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import Tag from '../parts/Tag.vue'
import { when } from '../parts/words'
import { t } from '../state/language'
import { useSession } from '../state/session'
import Verdicts from './Verdicts.vue'

const props = defineProps<{ cloud: Schemas['CloudConnection'] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const message = useMessage()

const form = reactive({ url: props.cloud.url, token: '' })
const tried = shallowRef<Schemas['CloudTried'] | null>(null)
const refused = ref('')
const busy = ref('')
watch([() => form.url, () => form.token], () => {
  tried.value = null // it was of something else
  refused.value = ''
})

async function during(what: string, work: () => Promise<void>): Promise<void> {
  busy.value = what
  refused.value = ''
  try {
    await work()
  } catch (e) {
    refused.value = (e as Error).message
  } finally {
    busy.value = ''
  }
}
const body = () => ({ url: form.url.trim(), token: form.token.trim() })
const attempt = () =>
  during('try', async () => {
    tried.value = await unwrap(api.POST('/api/v1/cloud/try', { body: body() }))
  })
const connect = () =>
  during('connect', async () => {
    const reached = await unwrap(api.PUT('/api/v1/cloud/connection', { body: body() }))
    message.success(t('The cloud is reached at {0} from now on.', reached.url))
    form.token = ''
    emit('changed')
  })
const disconnect = () =>
  during('disconnect', async () => {
    await unwrap(api.DELETE('/api/v1/cloud/connection'))
    message.success(t('The cloud is reached as the configuration of the service says.'))
    emit('changed')
  })
const word = computed(() => {
  const one = tried.value
  if (!one?.answers) return null
  if (!one.linked)
    return {
      text: t('Would do'),
      tone: 'success' as const,
      detail: t('Nothing is linked yet, so that any cloud may be chosen.'),
    }
  if (one.same)
    return {
      text: t('The cloud of the records'),
      tone: 'success' as const,
      detail: t('Of {0} linked resources it knows {1}.', one.linked, one.known),
    }
  return {
    text: t('Another cloud'),
    tone: 'error' as const,
    detail: t(
      'Of {0} resources that entries are linked to it knows {1}: everybody would be made there a second time, so that it is refused. For another cloud start a service on an empty database.',
      one.linked,
      one.known,
    ),
  }
})
</script>

<template>
  <section class="sheet" aria-labelledby="connection-title">
    <header>
      <h2 id="connection-title">Connection</h2>
      <span v-if="cloud.setBy" class="quiet">{{ cloud.setBy }} has said so at {{ when(cloud.setAt) }}</span>
      <span v-else-if="cloud.url" class="quiet">as the configuration of the service says</span>
      <NPopconfirm v-if="cloud.setBy && session.may('administrator')" @positive-click="disconnect">
        <template #trigger><NButton size="tiny" quaternary>As configured again…</NButton></template>
        Forget this URL and its token, and reach the cloud as the configuration of the service says?
      </NPopconfirm>
    </header>
    <div class="body">
      <p v-if="!session.may('administrator')" class="quiet">An administrator says where the cloud is.</p>
      <NForm v-else class="form" label-placement="top" size="small" @submit.prevent="attempt">
        <NFormItem label="Base URL of the SCIM service" :show-feedback="false">
          <NInput
            v-model:value="form.url"
            placeholder="https://cloud.halvard.example/scim/v2"
            :input-props="{ 'aria-label': t('Base URL of the SCIM service'), spellcheck: 'false' }"
          />
        </NFormItem>
        <NFormItem label="Token" :show-feedback="false">
          <NInput
            v-model:value="form.token"
            type="password"
            placeholder="A new one; that of now is shown to nobody"
            :input-props="{ 'aria-label': t('Token'), autocomplete: 'off' }"
          />
        </NFormItem>
        <div class="acts">
          <NButton attr-type="submit" size="small" :loading="busy === 'try'" :disabled="!form.url || !form.token"
            >Try</NButton
          >
          <NButton
            size="small"
            type="primary"
            :loading="busy === 'connect'"
            :disabled="!tried?.answers || !tried.same"
            @click="connect"
            >Connect</NButton
          >
        </div>
      </NForm>
      <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      <template v-if="tried">
        <Verdicts :verdicts="tried.verdicts" />
        <p v-if="word" role="status"><Tag :text="word.text" :tone="word.tone" /> {{ word.detail }}</p>
      </template>
      <p class="quiet">
        Trying changes nothing. The token is kept in the records, sealed by a key that only the service's host has; one
        in the file of the service's configuration is taken up when the file changes.
      </p>
    </div>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 14px;
}
.form {
  display: grid;
  grid-template-columns: minmax(0, 1.3fr) minmax(0, 1fr) auto;
  gap: 10px;
  align-items: end;
  max-width: 980px;
  margin-bottom: 10px;
}
.acts {
  display: flex;
  gap: 6px;
}
@media (max-width: 900px) {
  .form {
    grid-template-columns: minmax(0, 1fr);
  }
}
p {
  margin: 8px 0 0;
}
</style>
