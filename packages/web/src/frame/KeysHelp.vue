<script setup lang="ts">
import Popover from 'ant-design-vue/es/popover'
import { useEventListener } from '@vueuse/core'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { stages } from './stages.ts'
import { useSession } from '../session/session.ts'

/** The keys of the view at hand. Each is also a visible control. */
const route = useRoute()
const router = useRouter()
const session = useSession()
const open = ref(false)
const shown = computed(() => stages.filter((stage) => session.may(stage.needs)))
const everywhere = computed(() => [
  ...shown.value.map((stage, at) => [String(at + 1), `to ${stage.title}`] as const),
  ['/', 'find a record, a person, a field or a save, or ask for changes in plain words'] as const,
  ['?', 'this list'] as const,
  ['Esc', 'back out one step'] as const,
])
const here = computed((): readonly (readonly [string, string])[] => {
  if (route.path.startsWith('/changes'))
    return [
      ['j k ↓ ↑', 'through the rows'],
      ['Enter', 'open the save beside the list, or a run where it stands'],
      ['→ ←', 'open and close a run'],
      ['[ ]', 'earlier and later save of the same record'],
      ['x', 'pick into the tray'],
      ['m', 'mark reviewed, or not'],
      ['e', 'make an evidence pack of what the sentence means'],
      ['r', 'rehearse a revert of the opened save, the tray, or the line you are at'],
      ['← →', 'on the ribbon: choose a spell, with Shift several, Enter narrows'],
    ]
  if (route.name === 'record')
    return [
      ['← →', 'on a cursor: from save to save'],
      ['Ctrl wheel', 'closer and wider in time'],
      ['[ ]', 'earlier and later save, where one is opened'],
      ['n p', 'next and previous record of the list you came from'],
    ]
  if (route.path === '/tracking')
    return [
      ['← → ↑ ↓', 'from field to field and type to type'],
      ['Shift', 'with an arrow: several'],
      ['Ctrl A', 'all fields of the type'],
      ['v f o', 'keep values, a fingerprint, nothing'],
      ['Space', 'on or off'],
    ]
  return []
})
useEventListener('keydown', (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey) return
  if ((event.target as HTMLElement).closest('input, textarea, select, [contenteditable], .ant-popover')) return
  const stage = /^[1-7]$/.test(event.key) ? shown.value[Number(event.key) - 1] : undefined
  if (stage) void router.push(stage.path)
  else if (event.key === '?') open.value = !open.value
  else if (event.key === 'Escape' && open.value) open.value = false
})
</script>

<template>
  <Popover v-model:open="open" trigger="click" placement="bottomRight" :arrow="false">
    <button class="plain keys" aria-label="Keys of this view" title="Keys: ?">?</button>
    <template #content>
      <div class="list">
        <template
          v-for="[title, list] in [
            ['In this view', here],
            ['Everywhere', everywhere],
          ] as const"
          :key="title"
        >
          <template v-if="list.length > 0">
            <h3>{{ title }}</h3>
            <dl>
              <template v-for="[key, words] in list" :key="key">
                <dt class="mono">{{ key }}</dt>
                <dd>{{ words }}</dd>
              </template>
            </dl>
          </template>
        </template>
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.keys {
  width: 22px;
  height: 22px;
  border: 1px solid var(--bar-soft);
  border-radius: 3px;
  text-align: center;
  color: var(--bar-soft);
}
.list {
  width: 360px;
  max-width: 86vw;
  font-size: 13px;
}
h3 {
  font-size: 13px;
  font-weight: 650;
  margin: 6px 0 2px;
}
dl {
  display: grid;
  grid-template-columns: 84px 1fr;
  row-gap: 2px;
}
</style>
