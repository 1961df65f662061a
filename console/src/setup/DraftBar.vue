<script setup lang="ts">
// How the draft stands: saved or not, overtaken, faulty; and the ways on.
import { NButton, NPopconfirm, useMessage } from 'naive-ui'
import { computed, onMounted, onUnmounted } from 'vue'
import { onBeforeRouteLeave } from 'vue-router'

import { useDraft } from '../state/draft'
import { useExpectations } from '../state/expectations'
import { t } from '../state/language'
import { useSession } from '../state/session'
import { count, when } from '../parts/words'

const draft = useDraft()
const held = useExpectations()
const session = useSession()
const message = useMessage()

const text = computed(() => {
  const s = draft.saved
  if (!s) return t('Looking…')
  if (s.version === 0)
    return s.active
      ? t('No draft: these are the active settings, revision {0}.', s.active)
      : t('Nothing is active yet: what you save here becomes the first draft.')
  const from = s.active ? t('revision {0}', s.active) : t('nothing active')
  return t(
    'Draft version {0} by {1}, {2}: {3} from {4}.',
    s.version,
    s.by,
    when(s.changed),
    count(s.differences.length, 'difference'),
    from,
  )
})

async function save(): Promise<void> {
  try {
    await draft.save()
    message.success(t('The draft is saved. Nothing was changed in the cloud.'))
  } catch (e) {
    message.error((e as Error).message, { duration: 9000, closable: true })
    await draft.look()
  }
}

async function discard(): Promise<void> {
  try {
    await draft.discard()
  } catch (e) {
    message.error((e as Error).message)
  }
}

const unsaved = t('There are edits that are not saved. Leave them?')
const warn = (event: BeforeUnloadEvent) => {
  if (draft.edited) event.preventDefault()
}
onMounted(() => window.addEventListener('beforeunload', warn))
onUnmounted(() => window.removeEventListener('beforeunload', warn))
onBeforeRouteLeave(() => {
  if (!draft.edited || window.confirm(unsaved)) {
    if (draft.edited && draft.saved) draft.take(draft.saved)
    return true
  }
  return false
})
</script>

<template>
  <section class="sheet draft" :class="{ edited: draft.edited }" aria-label="Draft" role="status">
    <div class="row">
      <strong v-if="draft.edited" class="warn">Not saved</strong>
      <span>{{ text }}</span>
      <span class="push" />
      <RouterLink :to="{ name: 'settings' }">What it changes</RouterLink>
      <template v-if="session.may('administrator')">
        <NPopconfirm v-if="draft.saved?.version && !draft.edited" @positive-click="discard"
          ><template #trigger><NButton size="small" quaternary>Discard draft…</NButton></template
          >Go back to the active settings? The draft is lost.</NPopconfirm
        >
        <NButton v-if="draft.edited" size="small" @click="draft.saved && draft.take(draft.saved)">Undo edits</NButton>
        <NButton
          v-if="draft.edited"
          size="small"
          type="primary"
          :loading="draft.saving"
          :disabled="Boolean(draft.overtaken)"
          @click="save"
          >Save draft</NButton
        >
      </template>
      <span v-else class="quiet">Your role may look, not edit.</span>
    </div>
    <p v-if="draft.overtaken" class="bad" role="alert">
      Meanwhile {{ draft.overtaken }}: saving would undo that.
      <NButton size="tiny" @click="draft.load">Take theirs, drop my edits</NButton>
    </p>
    <ul v-if="draft.saved?.version && draft.saved.faults.length && !draft.edited" class="faults">
      <li v-for="fault in draft.saved.faults" :key="fault.path + fault.message">
        <span class="mono">{{ fault.path }}</span> {{ fault.message }}
      </li>
    </ul>
    <p v-if="held.data?.failing && !draft.edited" class="bad" role="alert">
      {{ count(held.data.failing, 'expectation is broken', 'expectations are broken') }}:
      <RouterLink :to="{ name: 'settings', query: { view: 'expectations' } }">look at what must hold</RouterLink>.
    </p>
    <ul v-if="draft.saved?.version && draft.saved.warnings.length && !draft.edited" class="faults warn">
      <li v-for="warning in draft.saved.warnings" :key="warning">{{ warning }}</li>
    </ul>
  </section>
</template>

<style scoped>
.draft {
  padding: 8px 14px;
  margin-bottom: 12px;
  border-left: 4px solid var(--line);
}
.draft.edited {
  border-left-color: var(--warn);
}
p {
  margin: 8px 0 2px;
}
.faults {
  margin: 6px 0 2px;
  padding-left: 18px;
  color: var(--bad);
}
</style>
