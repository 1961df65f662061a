<script setup lang="ts">
// Who signs in at the identity provider: looked at beforehand, and taken back in one act.
import { NButton, NDynamicTags, NModal, NRadio, NRadioGroup } from 'naive-ui'
import { computed, ref, shallowRef, watch } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { useAct } from '../parts/use-act'
import Verdicts from '../setup/Verdicts.vue'
import { t } from '../state/language'
import { useSession } from '../state/session'
import { signOnWords } from './words'

type SignOn = Schemas['Federation']['signOn']

const props = defineProps<{ federation: Schemas['Federation']; step: number }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const { busy, act } = useAct()
const may = computed(() => session.may('administrator'))

const to = ref<SignOn>('some')
const people = ref<string[]>([])
const groups = ref<string[]>([])
const refused = ref('')
const preview = shallowRef<Schemas['SwitchPreview'] | null>(null)
watch(
  () => props.federation,
  (f) => {
    people.value = f.people.map((p) => p.login || p.id)
    groups.value = f.groups.map((g) => g.name)
  },
  { immediate: true },
)
const path = computed(() => ({ path: { domain: props.federation.domain } }))
const body = (way: SignOn): Schemas['SwitchSignIn'] =>
  way === 'some' ? { signOn: way, people: people.value, groups: groups.value } : { signOn: way }
async function look(way: SignOn): Promise<void> {
  refused.value = ''
  try {
    preview.value = await unwrap(
      api.POST('/api/v1/domains/{domain}/sign-in/preview', { params: path.value, body: body(way) }),
    )
  } catch (e) {
    refused.value = (e as Error).message
  }
}
async function go(): Promise<void> {
  const way = preview.value!.signOn
  const done = await act(() =>
    unwrap(api.PUT('/api/v1/domains/{domain}/sign-in', { params: path.value, body: body(way) })),
  )
  if (done === undefined) return
  preview.value = null
  emit('changed')
}
const title = computed(() =>
  preview.value?.signOn === 'password' ? t('Back to passwords') : t('Switch how people sign in'),
)
</script>

<template>
  <section class="sheet" aria-labelledby="switch-title">
    <header>
      <h2 id="switch-title">{{ step }}. Switch: one person, a group, then everybody</h2>
      <NButton
        v-if="may && federation.signOn !== 'password'"
        size="small"
        type="warning"
        :loading="busy"
        @click="look('password')"
        >Back to passwords…</NButton
      >
    </header>
    <div class="body">
      <p>
        <strong>{{ signOnWords[federation.signOn] }}.</strong>
        <template v-if="federation.people.length || federation.groups.length">
          There:
          <template v-for="(one, i) in [...federation.people, ...federation.groups]" :key="one.id"
            >{{ i ? ', ' : ''
            }}<RouterLink :to="{ name: 'object', params: { id: one.id } }">{{ one.name }}</RouterLink></template
          >.
        </template>
      </p>
      <p v-if="!federation.provider" class="quiet">Take the provider's metadata and test it first.</p>
      <template v-else-if="may">
        <NRadioGroup v-model:value="to" name="to" aria-label="Who is to sign in at the provider">
          <NRadio value="some">These people and groups</NRadio>
          <NRadio value="provider">Everybody of {{ federation.domain }}</NRadio>
        </NRadioGroup>
        <div v-if="to === 'some'" class="who">
          <span id="people-label">People</span>
          <NDynamicTags
            v-model:value="people"
            aria-labelledby="people-label"
            :input-props="{ placeholder: t('login'), inputProps: { 'aria-label': t('A person') } }"
          >
            <template #trigger="{ activate }"
              ><NButton size="small" dashed @click="activate()">Add a person</NButton></template
            >
          </NDynamicTags>
          <span id="groups-label">Groups</span>
          <NDynamicTags
            v-model:value="groups"
            aria-labelledby="groups-label"
            :input-props="{ placeholder: t('name'), inputProps: { 'aria-label': t('A group') } }"
          >
            <template #trigger="{ activate }"
              ><NButton size="small" dashed @click="activate()">Add a group</NButton></template
            >
          </NDynamicTags>
        </div>
        <div class="row">
          <NButton
            size="small"
            type="primary"
            :disabled="to === 'some' && !people.length && !groups.length"
            @click="look(to)"
            >See what it would do…</NButton
          >
        </div>
      </template>
      <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
      <h3>What everybody's sign-in there hangs on</h3>
      <Verdicts :verdicts="federation.checks" />
    </div>
    <NModal
      :show="!!preview"
      preset="card"
      :title="title"
      style="width: min(720px, 94vw)"
      @update:show="(show: boolean) => !show && (preview = null)"
    >
      <template v-if="preview">
        <p v-for="text in preview.text" :key="text">{{ text }}</p>
        <Verdicts v-if="preview.checks.length" :verdicts="preview.checks" />
        <div class="row end">
          <NButton size="small" @click="preview = null">Leave it as it is</NButton>
          <NButton size="small" type="primary" :disabled="!preview.allowed" :loading="busy" @click="go">{{
            preview.signOn === 'password' ? t('Go back to passwords') : t('Switch')
          }}</NButton>
        </div>
      </template>
    </NModal>
  </section>
</template>

<style scoped>
h3 {
  font-size: 13px;
  margin: 14px 0 4px;
}
.who {
  display: grid;
  grid-template-columns: 80px minmax(0, 1fr);
  gap: 8px;
  margin: 10px 0;
  align-items: center;
}
.row {
  margin-top: 8px;
}
.end {
  justify-content: flex-end;
  margin-top: 14px;
}
</style>
