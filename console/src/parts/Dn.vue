<script setup lang="ts">
// A distinguished name that breaks between its parts, never inside one.
defineProps<{ dn: string }>()
</script>

<template>
  <span class="mono dn"
    ><template v-for="(part, i) in dn.split(/(?<!\\),/)" :key="i"
      ><template v-if="i">,<wbr /></template>{{ part }}</template
    ></span
  >
</template>

<style scoped>
.dn {
  overflow-wrap: anywhere;
}
</style>
