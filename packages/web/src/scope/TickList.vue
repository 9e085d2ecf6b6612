<script setup lang="ts">
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { computed, ref } from 'vue'

/** A list to tick in, found by typing; entries may be indented under others. */
export interface Entry {
  id: string
  text: string
  under?: boolean
  group?: string
}
export interface Props {
  entries: readonly Entry[]
  ticked: ReadonlySet<string>
  find: string
  empty: string
}
const props = defineProps<Props>()
const emit = defineEmits<{ toggle: [id: string] }>()
const words = ref('')
const mostShown = 200
const found = computed(() => {
  const wanted = words.value.trim().toLowerCase()
  return wanted === ''
    ? props.entries
    : props.entries.filter((entry) => `${entry.group ?? ''} ${entry.text}`.toLowerCase().includes(wanted))
})
</script>

<template>
  <Input v-model:value="words" :placeholder="find" :aria-label="find" size="small" autofocus />
  <ul>
    <li v-for="entry in found.slice(0, mostShown)" :key="entry.id" :class="{ under: entry.under }">
      <Checkbox :checked="ticked.has(entry.id)" @change="emit('toggle', entry.id)"
        ><slot :entry="entry">{{ entry.text }}</slot></Checkbox
      >
    </li>
    <li v-if="found.length === 0" class="quiet">{{ entries.length === 0 ? empty : 'None has this in its name.' }}</li>
    <li v-if="found.length > mostShown" class="quiet">{{ found.length - mostShown }} more; type to find one.</li>
  </ul>
</template>

<style scoped>
ul {
  max-height: 300px;
  overflow: auto;
  margin-top: 8px;
}
li {
  padding: 1px 0;
}
.under {
  padding-left: 22px;
}
</style>
