<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import Input from 'ant-design-vue/es/input'
import { routes } from '@spoor/contract'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'

/** Another record of the same type, to be put beside this one. */
export interface Props {
  typeId: number
  /** The record that it is put beside. */
  besides: string
}
const props = defineProps<Props>()
const emit = defineEmits<{ pick: [key: string] }>()
const words = ref('')
const settled = refDebounced(words, 150)
const wanted = computed(() => settled.value.trim())
const { data, error, isFetching } = useQuery({
  queryKey: ['find-records', wanted, computed(() => props.typeId)],
  queryFn: () => call(routes.findRecords, { query: { words: wanted.value, typeId: String(props.typeId) } }),
  enabled: () => wanted.value !== '',
})
const hits = computed(() =>
  wanted.value === '' ? [] : (data.value?.records ?? []).filter((one) => one.key !== props.besides),
)
</script>

<template>
  <div class="picker">
    <Input
      v-model:value="words"
      size="small"
      autofocus
      aria-label="Find a record to put beside it"
      placeholder="its name, number, a value or a former key"
    />
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <ul v-else>
      <li v-for="hit in hits" :key="hit.key">
        <button class="plain hit" @click="emit('pick', hit.key)">
          <bdi>{{ hit.label }}</bdi> <span class="quiet">{{ hit.deleted ? 'deleted' : '' }}</span>
        </button>
      </li>
      <li v-if="wanted !== '' && !isFetching && hits.length === 0" class="quiet">
        No other record of this type is it.
      </li>
    </ul>
  </div>
</template>

<style scoped>
.picker {
  width: 340px;
}
ul {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
  max-height: 300px;
  overflow: auto;
}
.hit {
  color: var(--pine);
  padding: 3px 0;
  text-align: left;
}
</style>
