<script setup lang="ts">
// The keys that work on every page; the question mark opens it.
import { NModal } from 'naive-ui'

import { t } from '../state/language'

const open = defineModel<boolean>('open', { required: true })
const keys = [
  { keys: ['/', 'Ctrl K'], does: t('Find anything: people, groups, runs, problems, pages, and what can be done') },
  { keys: ['↑', '↓', 'Enter'], does: t('Choose among what was found') },
  { keys: ['Esc'], does: t('Close what is open') },
  { keys: ['Tab', 'Shift Tab'], does: t('On to the next field or button, and back') },
  { keys: ['?'], does: t('This list') },
]
</script>

<template>
  <NModal v-model:show="open" preset="card" title="Keys" style="width: 560px">
    <table class="list">
      <tbody>
        <tr v-for="one in keys" :key="one.does">
          <th scope="row">
            <template v-for="(key, i) in one.keys" :key="key"
              ><template v-if="i"> or </template><kbd>{{ key }}</kbd></template
            >
          </th>
          <td>{{ one.does }}</td>
        </tr>
      </tbody>
    </table>
  </NModal>
</template>

<style scoped>
th {
  text-align: left;
  font-weight: 400;
  white-space: nowrap;
}
kbd {
  border: 1px solid var(--line);
  border-radius: 3px;
  padding: 1px 6px;
  font-size: 12.5px;
}
</style>
