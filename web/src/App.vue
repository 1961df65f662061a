<script setup lang="ts">
import { NConfigProvider, NMessageProvider } from 'naive-ui'

import Frame from './parts/Frame.vue'
import { useSession } from './state/session'
import { overrides, theme } from './state/theme'

const session = useSession()
</script>

<template>
  <NConfigProvider :theme="theme" :theme-overrides="overrides" style="height: 100%">
    <NMessageProvider>
      <Frame v-if="session.who && $route.name !== 'sign-in'"><RouterView /></Frame>
      <RouterView v-else />
    </NMessageProvider>
  </NConfigProvider>
</template>
