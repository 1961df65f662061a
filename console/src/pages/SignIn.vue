<script setup lang="ts">
import { NButton, NForm, NFormItem, NInput } from 'naive-ui'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { Refusal } from '../api/client'
import { useSession } from '../state/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const failure = ref('')
const busy = ref(false)

async function enter(): Promise<void> {
  if (!name.value || !password.value) {
    failure.value = 'Give both your name and your password.'
    return
  }
  busy.value = true
  failure.value = ''
  try {
    await session.signIn(name.value, password.value)
    const to = typeof route.query.to === 'string' && route.query.to.startsWith('/') ? route.query.to : '/'
    await router.replace(to)
  } catch (e) {
    failure.value =
      e instanceof Refusal && e.status === 401 ? 'The name or the password is wrong.' : (e as Error).message
    password.value = ''
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="door">
    <section class="sheet card">
      <h1><img src="/icon.svg" alt="" width="30" height="30" /> Kambrel</h1>
      <p class="quiet">Keeps the cloud directory in step with the directories on site.</p>
      <NForm @submit.prevent="enter">
        <NFormItem label="Name" :show-feedback="false" label-for="name">
          <NInput
            v-model:value="name"
            :input-props="{ id: 'name', name: 'name', autocomplete: 'username' }"
            placeholder=""
            autofocus
          />
        </NFormItem>
        <NFormItem label="Password" :show-feedback="false" label-for="password">
          <NInput
            v-model:value="password"
            type="password"
            placeholder=""
            :input-props="{ id: 'password', name: 'password', autocomplete: 'current-password' }"
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
