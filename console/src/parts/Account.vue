<script setup lang="ts">
// The password, the second factor and the sessions of whoever is signed in.
import { NButton, NForm, NFormItem, NInput, NModal, NPopconfirm, NSelect, useMessage } from 'naive-ui'
import { computed, reactive, ref } from 'vue'

import { choose, chosen, languages, t } from '../state/language'
import { useSession } from '../state/session'
import Factor from './Factor.vue'

const emit = defineEmits<{ close: [] }>()
const session = useSession()
const message = useMessage()
const form = reactive({ current: '', next: '', again: '' })
const factor = ref(false) // one is being set up
const refused = ref('')
const busy = ref(false)
const ready = computed(() => form.current && form.next.length >= 10 && form.next === form.again)

async function change(): Promise<void> {
  busy.value = true
  refused.value = ''
  try {
    await session.changePassword(form.current, form.next)
    message.success(t('Your password is changed, and your other sessions have ended.'))
    emit('close')
  } catch (e) {
    refused.value = (e as Error).message
  } finally {
    busy.value = false
  }
}

function proved(): void {
  message.success(t('A code is asked for from now on when you sign in. Your other sessions have ended.'))
  emit('close')
}

async function everywhere(): Promise<void> {
  try {
    await session.signOutEverywhere()
  } catch (e) {
    refused.value = (e as Error).message
  }
}
</script>

<template>
  <NModal
    show
    preset="card"
    :title="t('{0}: sign-in and sessions', session.who?.name)"
    style="width: 430px"
    @update:show="emit('close')"
  >
    <NFormItem label="Language" :label-props="{ for: 'language' }">
      <NSelect
        :value="chosen ?? ''"
        :options="[
          { label: t('that of the browser'), value: '' },
          ...Object.entries(languages).map(([value, label]) => ({ label, value })),
        ]"
        :input-props="{ id: 'language', 'aria-label': t('Language') }"
        @update:value="choose($event || null)"
      />
    </NFormItem>
    <div v-if="session.who?.directory">
      <p>You have signed in by the directory {{ session.who.directory }}, which keeps your password and lets you in.</p>
      <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      <NPopconfirm @positive-click="everywhere">
        <template #trigger><NButton>Sign out everywhere…</NButton></template>
        End all your sessions, this one too?
      </NPopconfirm>
    </div>
    <NForm v-else-if="!factor" @submit.prevent="change">
      <NFormItem label="Current password" :label-props="{ for: 'password-current' }">
        <NInput
          v-model:value="form.current"
          type="password"
          placeholder=""
          :input-props="{ id: 'password-current', autocomplete: 'current-password' }"
        />
      </NFormItem>
      <NFormItem
        label="New password"
        :label-props="{ for: 'password-next' }"
        :feedback="form.next && form.next.length < 10 ? t('At least 10 characters.') : ''"
        :validation-status="form.next && form.next.length < 10 ? 'warning' : undefined"
      >
        <NInput
          v-model:value="form.next"
          type="password"
          placeholder=""
          :input-props="{ id: 'password-next', autocomplete: 'new-password' }"
        />
      </NFormItem>
      <NFormItem
        label="New password again"
        :label-props="{ for: 'password-again' }"
        :feedback="form.again && form.again !== form.next ? t('The two differ.') : ''"
        :validation-status="form.again && form.again !== form.next ? 'warning' : undefined"
      >
        <NInput
          v-model:value="form.again"
          type="password"
          placeholder=""
          :input-props="{ id: 'password-again', autocomplete: 'new-password' }"
        />
      </NFormItem>
      <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      <div class="row">
        <NButton attr-type="submit" type="primary" :disabled="!ready" :loading="busy">Change the password</NButton>
        <NPopconfirm @positive-click="everywhere">
          <template #trigger><NButton>Sign out everywhere…</NButton></template>
          End all your sessions, this one too?
        </NPopconfirm>
      </div>
    </NForm>
    <Factor v-if="!session.who?.directory" @begun="factor = true" @done="proved" />
  </NModal>
</template>
