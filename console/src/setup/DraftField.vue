<script setup lang="ts">
// One text of the draft, for whoever may edit it.
import { NInput } from 'naive-ui'

import { useSession } from '../state/session'

defineProps<{ value: string | undefined; label: string; placeholder?: string }>()
defineEmits<{ change: [value: string] }>()
const session = useSession()
</script>

<template>
  <NInput
    :value="value ?? ''"
    size="small"
    :placeholder="placeholder ?? ''"
    :disabled="!session.may('operator')"
    :input-props="{ 'aria-label': label }"
    @update:value="(typed: string) => $emit('change', typed)"
  />
</template>
