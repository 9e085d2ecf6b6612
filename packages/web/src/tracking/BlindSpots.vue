<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes, type SourceMap } from '@spoor/contract'
import { capitalised, counted, grouped } from '@spoor/core'
import { computed } from 'vue'
import { call } from '../api/client.ts'
import { shortTime } from '../value/time.ts'

/** What changes in the source without reaching the ledger, worst first. */
export interface Props {
  source: SourceMap
}
const props = defineProps<Props>()
const emit = defineEmits<{ open: [typeId: number] }>()
const { data } = useQuery({
  queryKey: ['blind-spots', computed(() => props.source.id), computed(() => props.source.planVersion)],
  queryFn: () => call(routes.readBlindSpots, { params: { sourceId: String(props.source.id) } }),
})
const mostShown = 8
const spots = computed(() =>
  (data.value?.spots ?? []).flatMap((spot) => {
    const type = props.source.types.find((one) => one.id === spot.typeId)
    if (!type) return []
    const fields = type.fields.filter((field) => spot.fieldIds.includes(field.id)).map((field) => field.name)
    const what = fields.length > 0 ? fields.join(', ') : `all ${counted(type.fields.length, 'field')}`
    return [{ ...spot, name: `${capitalised(type.name)} · ${what}` }]
  }),
)
</script>

<template>
  <section class="block">
    <h3>Changes nobody would see</h3>
    <ul v-if="spots.length > 0">
      <li v-for="spot in spots.slice(0, mostShown)" :key="spot.typeId">
        <button class="plain name" @click="emit('open', spot.typeId)">{{ spot.name }}</button>
        <b>{{ spot.perDay >= 1 ? `${grouped(Math.round(spot.perDay))} a day` : 'now and then' }}</b>
      </li>
    </ul>
    <p v-if="spots.length > mostShown" class="quiet">and {{ counted(spots.length - mostShown, 'more type') }}.</p>
    <p v-if="spots[0]" class="quiet small">
      Rows the source counted {{ shortTime(spots[0].from) }} to {{ shortTime(spots[0].to) }} that made no save, at most:
      it also counts what was rolled back.
    </p>
    <p v-else-if="data" class="quiet">None known. The source’s own counts are compared with the ledger every hour.</p>
  </section>
</template>

<style scoped>
.block {
  flex: none;
  padding: 12px 18px;
  border-bottom: 1px solid var(--line);
  font-size: 13px;
  max-height: 45%;
  overflow: auto;
}
h3 {
  font-size: 15px;
  font-weight: 650;
  margin-bottom: 4px;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding: 2px 0;
}
li b {
  white-space: nowrap;
}
.name:hover {
  text-decoration: underline;
}
.small {
  font-size: 12px;
  line-height: 16px;
  margin-top: 4px;
}
</style>
