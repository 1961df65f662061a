<script setup lang="ts">
// The cloud's side of the exchange, to give to the identity provider.
import { NButton, useMessage } from 'naive-ui'

import type { Schemas } from '../api/client'
import { t } from '../state/language'

const props = defineProps<{ cloud: Schemas['FederationCloud']; domain: string }>()
const message = useMessage()

async function copy(): Promise<void> {
  await navigator.clipboard.writeText(props.cloud.metadata)
  message.success(t('The metadata of the cloud is in the clipboard.'))
}
function download(): void {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([props.cloud.metadata], { type: 'application/samlmetadata+xml' }))
  link.download = `cloud-for-${props.domain}.xml`
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <section class="sheet" aria-labelledby="cloud-side">
    <header>
      <h2 id="cloud-side">1. Give the provider the cloud's metadata</h2>
      <div class="row">
        <NButton size="small" @click="copy">Copy</NButton>
        <NButton size="small" type="primary" @click="download">Download</NButton>
      </div>
    </header>
    <div class="body">
      <dl class="facts">
        <dt>Entity</dt>
        <dd class="mono">{{ cloud.entityId }}</dd>
        <dt>Assertions go to</dt>
        <dd class="mono">{{ cloud.consumer }}</dd>
        <dt>Attributes that it asks for</dt>
        <dd>
          <div v-for="wanted in cloud.wanted" :key="wanted.name" class="row">
            <span>{{ wanted.friendly || wanted.name }}</span>
            <span class="quiet">{{ wanted.required ? t('needed') : t('if there is one') }}</span>
            <span v-if="wanted.friendly" class="quiet mono">{{ wanted.name }}</span>
          </div>
          <span v-if="!cloud.wanted.length" class="quiet">it names none</span>
        </dd>
      </dl>
      <details>
        <summary>The whole of it</summary>
        <pre class="mono" tabindex="0" aria-label="Metadata of the cloud">{{ cloud.metadata }}</pre>
      </details>
    </div>
  </section>
</template>

<style scoped>
pre {
  max-height: 320px;
  overflow: auto;
  margin: 8px 0 0;
  padding: 8px;
  border: 1px solid var(--line);
}
details {
  margin-top: 8px;
}
</style>
