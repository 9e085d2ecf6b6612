<script setup lang="ts">
/** Says why a list does not take the order that somebody wanted. */
export interface Props {
  words: string
}
defineProps<Props>()
const emit = defineEmits<{ close: [] }>()
</script>

<template>
  <p class="note" role="status">
    {{ words }} <button class="plain act" aria-label="Close this note" @click="emit('close')">✕</button>
  </p>
</template>

<style scoped>
.note {
  margin: 0;
  padding: 5px 18px;
  font-size: 13px;
  background: var(--panel);
  border-bottom: 1px solid var(--line-soft);
}
.act {
  color: var(--pine);
}
</style>
