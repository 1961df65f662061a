<script setup lang="ts">
// The installation as a whole, looked at anew each time: what is well, doubtful and wrong.
import { NButton, NSkeleton } from 'naive-ui'
import { computed } from 'vue'

import { api, unwrap } from '../api/client'
import Fault from '../parts/Fault.vue'
import { useLoad } from '../parts/use-load'
import { count, when } from '../parts/words'
import Verdicts from '../setup/Verdicts.vue'

const { data, failure, loading, again } = useLoad(() => unwrap(api.POST('/api/v1/checkup')), [])
const order = ['bad', 'doubtful', 'skipped', 'good']
const steps = computed(() =>
  [...(data.value?.steps ?? [])].sort((a, b) => order.indexOf(a.outcome) - order.indexOf(b.outcome)),
)
const of = (outcome: string) => steps.value.filter((step) => step.outcome === outcome).length
</script>

<template>
  <div>
    <div class="page-head">
      <h1>Installation</h1>
      <span class="quiet">Whether the house will stand: health tells whether people are in step.</span>
      <span class="push" />
      <NButton size="small" :loading="loading" @click="again">Look again</NButton>
    </div>
    <Fault v-if="failure" :failure="failure" @again="again" />
    <section v-else-if="!data" class="sheet" aria-busy="true">
      <div class="body">
        <p role="status">Agents try their directories, and the service the cloud…</p>
        <NSkeleton text :repeat="8" />
      </div>
    </section>
    <section v-else class="sheet">
      <div class="body">
        <p role="status">
          <strong>{{ of('bad') }} wrong, {{ of('doubtful') }} to look at, {{ of('good') }} good.</strong>
        </p>
        <p class="quiet">
          {{ count(steps.length, 'thing') }} looked at {{ when(data.at) }}, by version {{ data.version }}. 'kambrel
          doctor --pack FILE.zip' writes what somebody needs who helps.
        </p>
        <Verdicts :verdicts="steps" />
      </div>
    </section>
  </div>
</template>
