<script setup lang="ts">
// What a decision would do, and the second word that lets it be done.
import { NButton, NModal } from 'naive-ui'

import type { Schemas } from '../api/client'
import Diffs from '../parts/Diffs.vue'
import { t } from '../state/language'
import type { Action } from './use-decision'

const props = defineProps<{ decided: Schemas['Decided'] | null; action: Action; name: string; busy: boolean }>()
const emit = defineEmits<{ decide: []; leave: [] }>()
const titles: Record<Action, string> = {
  link: t('Link'),
  merge: t('Merge'),
  hold: t('Unlink'),
  create: t('Create all the same'),
  forget: t('Let the rules decide'),
  'take-over': t('Take over'),
  swap: t('Exchange'),
  keep: t('Keep'),
  return: t('Let return'),
}
</script>

<template>
  <NModal
    :show="Boolean(decided)"
    preset="card"
    :title="`${titles[props.action]}: ${name}`"
    style="width: 760px"
    @update:show="(on: boolean) => !on && emit('leave')"
  >
    <template v-if="decided">
      <p>{{ decided.summary }}</p>
      <p v-for="warning in decided.warnings ?? []" :key="warning" class="warn" role="alert">{{ warning }}</p>
      <Diffs v-if="decided.diffs.length" :diffs="decided.diffs" />
      <template v-if="decided.other">
        <p class="quiet">{{ decided.other.entry }} gets {{ decided.other.resourceId }} for it:</p>
        <Diffs v-if="decided.other.diffs.length" :diffs="decided.other.diffs" />
      </template>
      <p class="quiet">It is kept in the audit with your name. A run carries it out at once.</p>
      <div class="row">
        <NButton size="small" :type="decided.removes ? 'error' : 'primary'" :loading="busy" @click="emit('decide')">{{
          titles[props.action]
        }}</NButton><NButton size="small" @click="emit('leave')">Leave it</NButton>
      </div>
    </template>
  </NModal>
</template>
