<script setup lang="ts">
import { NButton, NForm, NFormItem, NInput, NSelect } from 'naive-ui'
import { computed, nextTick, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, Refusal, unwrap } from '../api/client'
import { useLoad } from '../parts/use-load'
import { t } from '../state/language'
import { useSession } from '../state/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const code = ref('')
const asksCode = ref(false)
const failure = ref('')
const busy = ref(false)

// Who keeps name and password: Kambrel itself, or a directory; remembered on this computer.
const remembered = 'kambrel-sign-in-by'
const by = ref(localStorage.getItem(remembered) ?? '')
const { data: ways } = useLoad(() => unwrap(api.GET('/api/v1/session/ways')), [])
const choices = computed(() => [
  { label: t('an account of Kambrel'), value: '' },
  ...(ways.value?.directories ?? []).map((one) => ({ label: t('the directory {0}', one), value: one })),
])
const chosen = computed(() => (choices.value.some((one) => one.value === by.value) ? by.value : ''))

async function enter(): Promise<void> {
  if (!name.value || !password.value || (asksCode.value && !code.value)) {
    failure.value = asksCode.value
      ? t('Give the six digits that your authenticator shows.')
      : t('Give both your name and your password.')
    return
  }
  busy.value = true
  failure.value = ''
  try {
    await session.signIn({
      name: name.value,
      password: password.value,
      directory: chosen.value || undefined,
      code: (!chosen.value && code.value.trim()) || undefined,
    })
    localStorage.setItem(remembered, chosen.value)
    const to = typeof route.query.to === 'string' && route.query.to.startsWith('/') ? route.query.to : '/'
    await router.replace(to)
  } catch (e) {
    const refusal = e instanceof Refusal ? e : null
    code.value = ''
    if (refusal?.code === 'second-factor-needed') {
      asksCode.value = true
      await nextTick()
      document.getElementById('code')?.focus()
      return
    }
    failure.value = refusal?.status === 401 ? wrong() : (e as Error).message
    if (!asksCode.value) password.value = ''
  } finally {
    busy.value = false
  }
}

function wrong(): string {
  if (chosen.value) return t('The name or the password is wrong, or no group of yours lets its members sign in.')
  return asksCode.value
    ? t('The name, the password or the code is wrong; each code serves once.')
    : t('The name or the password is wrong.')
}
</script>

<template>
  <main class="door">
    <section class="sheet card">
      <h1><img src="/icon.svg" alt="" width="30" height="30" /> Kambrel</h1>
      <p class="quiet">Keeps the cloud directory in step with the directories on site.</p>
      <NForm @submit.prevent="enter">
        <NFormItem
          v-if="choices.length > 1"
          label="Sign in by"
          :show-feedback="false"
          :label-props="{ for: 'directory' }"
        >
          <NSelect
            :value="chosen"
            :options="choices"
            :input-props="{ id: 'directory' }"
            @update:value="(value: string) => (by = value)"
          />
        </NFormItem>
        <NFormItem label="Name" :show-feedback="false" :label-props="{ for: 'name' }">
          <NInput
            v-model:value="name"
            :input-props="{ id: 'name', name: 'name', autocomplete: 'username' }"
            placeholder=""
            autofocus
          />
        </NFormItem>
        <NFormItem label="Password" :show-feedback="false" :label-props="{ for: 'password' }">
          <NInput
            v-model:value="password"
            type="password"
            placeholder=""
            :input-props="{ id: 'password', name: 'password', autocomplete: 'current-password' }"
          />
        </NFormItem>
        <NFormItem
          v-if="asksCode && !chosen"
          label="Code of your authenticator"
          :show-feedback="false"
          :label-props="{ for: 'code' }"
        >
          <NInput
            v-model:value="code"
            placeholder=""
            :maxlength="6"
            :input-props="{ id: 'code', name: 'code', autocomplete: 'one-time-code', inputmode: 'numeric' }"
          />
        </NFormItem>
        <p class="bad say" role="alert">{{ failure }}</p>
        <NButton type="primary" attr-type="submit" block :loading="busy">Sign in</NButton>
      </NForm>
    </section>
  </main>
</template>

<style scoped>
.door {
  min-height: 100%;
  display: grid;
  place-items: center;
  background: linear-gradient(var(--rail) 0 38%, var(--paper) 38%);
}
.card {
  width: 330px;
  padding: 26px 28px 28px;
}
h1 {
  display: flex;
  align-items: center;
  gap: 10px;
}
.say {
  min-height: 20px;
  margin: 8px 0;
}
form > * + * {
  margin-top: 8px;
}
</style>
