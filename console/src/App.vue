<script setup lang="ts">
import { NConfigProvider, NMessageProvider } from 'naive-ui'
import { watch } from 'vue'
import { useRouter } from 'vue-router'

import Frame from './parts/Frame.vue'
import { useSession } from './state/session'
import { components } from './state/language'
import { overrides, theme } from './state/theme'

const session = useSession()
const router = useRouter()

// Signed out, or the session has ended: sign in, and come back here.
watch(
  () => session.who,
  (who, before) => {
    if (before && !who) void router.push({ name: 'sign-in', query: { to: router.currentRoute.value.fullPath } })
  },
)
</script>

<template>
  <NConfigProvider
    :theme="theme"
    :theme-overrides="overrides"
    :locale="components?.locale"
    :date-locale="components?.dates"
    style="height: 100%"
  >
    <NMessageProvider>
      <Frame v-if="session.who && $route.name !== 'sign-in'"><RouterView /></Frame>
      <RouterView v-else-if="$route.meta.open || !session.known" />
    </NMessageProvider>
  </NConfigProvider>
</template>
