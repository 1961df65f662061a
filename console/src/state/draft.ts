// The draft of the settings as this console edits it: what is saved on the
// service, and what is edited here and not saved yet.
import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'

import { api, Refusal, unwrap, type Schemas } from '../api/client'
import { t } from './language'
import { useLive } from './live'

export type Document = Schemas['Document']

export const useDraft = defineStore('draft', () => {
  const saved = shallowRef<Schemas['Draft'] | null>(null)
  const document = ref<Document | null>(null)
  const failure = ref<Refusal | null>(null)
  /** Somebody else has saved the draft since it was read here. */
  const overtaken = ref<string>('')
  const saving = ref(false)

  const edited = computed(() => JSON.stringify(document.value) !== JSON.stringify(saved.value?.document ?? null))

  function take(draft: Schemas['Draft']): void {
    saved.value = draft
    document.value = structuredClone(draft.document)
    overtaken.value = ''
    failure.value = null
  }

  async function load(): Promise<void> {
    try {
      take(await unwrap(api.GET('/api/v1/settings/draft')))
    } catch (e) {
      failure.value = e as Refusal
    }
  }

  /** Reads what is saved without touching what is edited here. */
  async function look(): Promise<void> {
    try {
      const now = await unwrap(api.GET('/api/v1/settings/draft'))
      if (now.version === saved.value?.version && now.active === saved.value.active) saved.value = now
      else if (!edited.value) take(now)
      else if (!saving.value)
        overtaken.value = now.version
          ? t('{0} has saved version {1}', now.by, now.version)
          : t('the draft was activated or discarded')
    } catch {
      // the bar tells that the service is away
    }
  }

  async function save(): Promise<boolean> {
    if (!document.value) return false
    saving.value = true
    try {
      take(
        await unwrap(
          api.PUT('/api/v1/settings/draft', { body: { version: saved.value?.version ?? 0, document: document.value } }),
        ),
      )
      return true
    } finally {
      saving.value = false
    }
  }

  async function discard(): Promise<void> {
    await unwrap(api.DELETE('/api/v1/settings/draft'))
    await load()
  }

  useLive().listen((event) => {
    if (event.kind === 'draft' || event.kind === 'settings' || event.kind === '') void look()
  })

  return { saved, document, failure, overtaken, saving, edited, load, look, take, save, discard }
})
