<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { defineAsyncComponent, ref } from 'vue'
import type FindPanelType from './FindPanel.vue'

/** One box for everything that can be looked for, reached by a key from anywhere. What reads words is fetched when used. */
const FindPanel = defineAsyncComponent(() => import('./FindPanel.vue'))
const text = ref('')
const open = ref(false)
const field = ref<HTMLInputElement | null>(null)
const panel = ref<InstanceType<typeof FindPanelType> | null>(null)

useEventListener('keydown', (event) => {
  if (event.key !== '/' || event.ctrlKey || event.metaKey || event.altKey) return
  if ((event.target as HTMLElement).closest('input, textarea, select, [contenteditable]')) return
  event.preventDefault()
  field.value?.focus()
  open.value = true
})

function leave() {
  open.value = false
  field.value?.blur()
}
function done() {
  text.value = ''
  leave()
}
function onKey(event: KeyboardEvent) {
  if (event.key === 'Escape') {
    event.stopPropagation()
    leave()
    return
  }
  open.value = true
  if (event.key === 'ArrowDown') panel.value?.step(1)
  else if (event.key === 'ArrowUp') panel.value?.step(-1)
  else if (event.key === 'Enter') panel.value?.enter()
  else return
  event.preventDefault()
}
</script>

<template>
  <div class="find" role="search">
    <input
      ref="field"
      v-model="text"
      role="combobox"
      aria-label="Find, or ask in plain words"
      :aria-controls="panel?.listed ? 'find-options' : undefined"
      aria-autocomplete="list"
      :aria-expanded="open"
      :aria-activedescendant="panel?.listed ? panel.active : undefined"
      placeholder="Find, or ask in plain words  /"
      autocomplete="off"
      spellcheck="false"
      maxlength="1000"
      @focus="open = true"
      @click="open = true"
      @blur="open = false"
      @keydown="onKey"
    />
    <FindPanel v-if="open" ref="panel" :text="text" @done="done" @close="leave" />
  </div>
</template>

<style scoped>
.find {
  position: relative;
  flex: 0 1 260px;
  min-width: 140px;
}
input {
  width: 100%;
  height: 30px;
  padding: 0 10px;
  font: inherit;
  font-size: 13px;
  color: var(--bar-ink);
  background: transparent;
  border: 1px solid #55635d;
  border-radius: 3px;
}
input::placeholder {
  color: var(--bar-soft);
  opacity: 1;
}
</style>
