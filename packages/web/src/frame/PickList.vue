<script setup lang="ts">
import Select from 'ant-design-vue/es/select'
import { computed, nextTick, onMounted, onUpdated, ref, useAttrs } from 'vue'

/**
 * Ant Design Vue's select with its combobox put right for screen readers: it points to a list that is not there while
 * it is closed, and does not say that it is closed.
 */
defineOptions({ inheritAttrs: false })
const attrs = useAttrs()
/** Its name goes to the combobox itself, where it is looked for. */
const rest = computed(() => Object.fromEntries(Object.entries(attrs).filter(([name]) => name !== 'aria-label')))
const host = ref<HTMLElement | null>(null)
const open = ref(false)
const pointers = ['aria-controls', 'aria-owns', 'aria-activedescendant'] as const

function mend() {
  const input = host.value?.querySelector('input[role=combobox]')
  if (!input) return
  if (typeof attrs['aria-label'] === 'string') input.setAttribute('aria-label', attrs['aria-label'])
  input.setAttribute('aria-expanded', String(open.value))
  for (const name of pointers) {
    const id = input.getAttribute(name)
    if (id !== null && !document.getElementById(id)) input.removeAttribute(name)
    else if (
      id === null &&
      open.value &&
      name !== 'aria-activedescendant' &&
      document.getElementById(`${input.id}_list`)
    )
      input.setAttribute(name, `${input.id}_list`)
  }
}
onMounted(mend)
onUpdated(mend)
async function opened(now: boolean) {
  open.value = now
  await nextTick()
  mend()
}
</script>

<template>
  <span ref="host" class="pick"
    ><Select v-bind="rest" @dropdown-visible-change="opened"
      ><template v-for="(_, name) in $slots" #[name]="data" :key="name"
        ><slot :name="name" v-bind="data ?? {}" /></template></Select
  ></span>
</template>

<style scoped>
.pick {
  display: inline-grid;
  min-width: 110px;
}
</style>
