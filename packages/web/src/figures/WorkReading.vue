<script setup lang="ts">
import { firstWork, parseWork, workText, type Scope, type Work, type WorkForm } from '@spoor/core'
import { computed, defineAsyncComponent } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useAskedWork, type WorkProps } from './worked-out.ts'

/** What is worked out of a scope. What is asked stands in the link. */
export type Props = Omit<WorkProps<Work>, 'work'>
defineProps<Props>()
const emit = defineEmits<{ show: [scope: Scope] }>()
const formOf = {
  pivot: defineAsyncComponent(() => import('./PivotForm.vue')),
  stays: defineAsyncComponent(() => import('./StaysForm.vue')),
  figure: defineAsyncComponent(() => import('./FigureForm.vue')),
}
const route = useRoute()
const router = useRouter()

const forms: readonly { form: WorkForm; title: string }[] = [
  { form: 'pivot', title: 'Pivot' },
  { form: 'stays', title: 'Time in value' },
  { form: 'figure', title: 'Figure over time' },
]
const asked = useAskedWork()
const work = computed(() => (asked.value === undefined ? firstWork.pivot : parseWork(asked.value)))
function put(next: Work) {
  void router.replace({ query: { ...route.query, work: workText(next) } })
}
</script>

<template>
  <div class="page">
    <div class="forms" role="group" aria-label="What is worked out">
      <button
        v-for="{ form, title } in forms"
        :key="form"
        class="plain"
        :aria-pressed="work?.form === form"
        @click="put(firstWork[form])"
      >
        {{ title }}
      </button>
    </div>
    <p v-if="work === null" class="state">
      What the link asks for is not understood, and nothing was worked out.
      <button class="plain mend" @click="put(firstWork.pivot)">Begin with a pivot</button>
    </p>
    <component
      :is="formOf[work.form]"
      v-else
      :key="work.form"
      :work="work as never"
      :scope="scope"
      :text="text"
      :version="version"
      :names="names"
      @put="put"
      @show="(meant: Scope) => emit('show', meant)"
    />
  </div>
</template>

<style scoped>
.page {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
  display: flex;
  flex-direction: column;
}
.forms {
  flex: none;
  display: flex;
  gap: 16px;
  padding: 8px 18px 0;
  font-size: 13px;
}
.forms button {
  color: var(--pine);
}
.forms [aria-pressed='true'] {
  color: var(--ink);
  font-weight: 650;
}
.state {
  padding: 40px;
}
.mend {
  color: var(--pine);
  text-decoration: underline;
}
</style>
