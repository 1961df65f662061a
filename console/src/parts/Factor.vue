<script setup lang="ts">
// A second factor for whoever is signed in: a secret to scan, proved by a code of it.
import { NButton, NForm, NFormItem, NInput } from 'naive-ui'
import { reactive, ref } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { t } from '../state/language'
import { useSession } from '../state/session'

const emit = defineEmits<{ begun: []; done: [] }>()
const session = useSession()
const made = ref<Schemas['NewFactor'] | null>(null)
const form = reactive({ current: '', code: '' })
const refused = ref('')
const busy = ref(false)

async function attempt(work: () => Promise<void>): Promise<void> {
  busy.value = true
  refused.value = ''
  try {
    await work()
  } catch (e) {
    refused.value = (e as Error).message
  } finally {
    busy.value = false
  }
}

const make = () =>
  attempt(async () => {
    made.value = await unwrap(api.POST('/api/v1/session/factor'))
    emit('begun')
  })
const prove = () =>
  attempt(async () => {
    await unwrap(
      api.PUT('/api/v1/session/factor', {
        body: { current: form.current, secret: made.value?.secret ?? '', code: form.code.trim() },
      }),
    )
    if (session.who) session.who.secondFactor = true
    emit('done')
  })
</script>

<template>
  <section :class="{ alone: made }">
    <h3>Second factor</h3>
    <p v-if="!made" class="quiet">
      {{
        session.who?.secondFactor
          ? t(
              'A code of your authenticator is asked for when you sign in. An administrator takes it away if you lose it.',
            )
          : t('With an authenticator, a password that somebody has seen is not enough to sign in as you.')
      }}
    </p>
    <NButton v-if="!made" size="small" :loading="busy" @click="make">
      {{ session.who?.secondFactor ? t('Set up another authenticator…') : t('Set up an authenticator…') }}
    </NButton>
    <NForm v-else @submit.prevent="prove">
      <div class="scan">
        <img :src="made.image" alt="The secret as a QR code" width="190" height="190" />
        <p>
          Scan this with the authenticator, or type the secret into it:<br /><code>{{
            made.secret.match(/.{1,4}/g)?.join(' ')
          }}</code>
        </p>
      </div>
      <NFormItem label="Your password" :label-props="{ for: 'factor-current' }">
        <NInput
          v-model:value="form.current"
          type="password"
          placeholder=""
          :input-props="{ id: 'factor-current', autocomplete: 'current-password' }"
        />
      </NFormItem>
      <NFormItem label="The code that it shows now" :label-props="{ for: 'factor-code' }">
        <NInput
          v-model:value="form.code"
          placeholder=""
          :maxlength="6"
          :input-props="{ id: 'factor-code', autocomplete: 'one-time-code', inputmode: 'numeric' }"
        />
      </NFormItem>
      <NButton
        attr-type="submit"
        type="primary"
        size="small"
        :disabled="!form.current || form.code.trim().length !== 6"
        :loading="busy"
        >Ask for codes from now on</NButton
      >
    </NForm>
    <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
  </section>
</template>

<style scoped>
section {
  margin-top: 18px;
  padding-top: 14px;
  border-top: 1px solid var(--line);
}
.alone {
  margin-top: 0;
  padding-top: 0;
  border: 0;
}
.scan {
  display: flex;
  gap: 14px;
  margin-bottom: 10px;
}
.scan img {
  flex: none;
}
code {
  user-select: all;
  overflow-wrap: anywhere;
}
</style>
