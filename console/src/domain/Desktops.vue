<script setup lang="ts">
// What desktops and browsers need so that people of a domain sign in, as text to hand on.
import { NButton, useMessage } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap } from '../api/client'
import Fault from '../parts/Fault.vue'
import { useLoad } from '../parts/use-load'
import { t } from '../state/language'

const props = defineProps<{ domain: string }>()
const message = useMessage()
const { data, failure, again } = useLoad(
  () => unwrap(api.GET('/api/v1/domains/{domain}/desktops', { params: { path: { domain: props.domain } } })),
  [() => props.domain],
)
const text = computed(() =>
  (data.value?.sections ?? [])
    .map((s) => [s.title, `  ${s.why}`, ...s.lines.map((l) => `    ${l}`)].join('\n'))
    .join('\n\n'),
)
async function copy(): Promise<void> {
  await navigator.clipboard.writeText(text.value)
  message.success(t('The text is in the clipboard.'))
}
</script>

<template>
  <section class="sheet" aria-labelledby="desktops-title">
    <header>
      <h2 id="desktops-title">What desktops and browsers need</h2>
      <NButton v-if="data" size="small" @click="copy">Copy as text</NButton>
    </header>
    <div class="body">
      <Fault v-if="failure" :failure="failure" @again="again" />
      <template v-for="section in data?.sections ?? []" :key="section.title">
        <h3>{{ section.title }}</h3>
        <p class="quiet">{{ section.why }}</p>
        <pre class="mono">{{ section.lines.join('\n') }}</pre>
      </template>
    </div>
  </section>
</template>

<style scoped>
h3 {
  font-size: 13px;
  margin: 12px 0 2px;
}
h3:first-child {
  margin-top: 0;
}
p {
  margin: 0 0 4px;
}
pre {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
