<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useInfiniteQuery } from '@tanstack/vue-query'
import { routes, type CaseItem, type CaseKind } from '@spoor/contract'
import { grouped } from '@spoor/core'
import { computed, ref } from 'vue'
import type { RouteLocationRaw } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { recordLink } from '../records/link.ts'
import { fullTime, shortTime } from '../value/time.ts'
import { kindTitles } from './words.ts'

/** What is gathered of one kind. */
export interface Props {
  caseId: number
  kind: CaseKind
  count: number
  /** Whether something may be taken out again. */
  open: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ removed: [] }>()
const { data, error, isPending, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  // What is gathered meanwhile is read: the count is part of what is asked.
  queryKey: ['case', computed(() => props.caseId), 'items', computed(() => props.kind), computed(() => props.count)],
  queryFn: ({ pageParam }) =>
    call(routes.listCaseItems, {
      params: { caseId: String(props.caseId) },
      query: { kind: props.kind, ...(pageParam === null ? {} : { after: pageParam }) },
    }),
  initialPageParam: null as string | null,
  getNextPageParam: (last) => last.next,
})
const items = computed(() => data.value?.pages.flatMap((page) => page.items) ?? [])

/** Where a thing is looked at; a save stands beside the others of its case. */
function linkTo({ thing }: CaseItem): RouteLocationRaw {
  switch (thing.kind) {
    case 'save':
      return { path: '/changes', query: { state: `c${props.caseId}`, save: thing.saveId } }
    case 'record':
      return recordLink({ typeId: thing.typeId, key: thing.recordKey })
    case 'correction':
      return { name: 'correction', params: { correctionId: String(thing.correctionId) } }
    case 'pack':
      return { name: 'pack', params: { packId: String(thing.packId) } }
    case 'question':
    case 'note':
      return { path: '/changes', query: { state: `c${props.caseId}` } }
  }
}
const why = ref('')
const shortest = 3
const { busy, problem, doing } = useDoing()
const remove = (item: CaseItem) =>
  doing(async () => {
    const params = { caseId: String(props.caseId), itemId: String(item.id) }
    await call(routes.removeFromCase, { params, body: { why: why.value } })
    why.value = ''
    emit('removed')
  })
</script>

<template>
  <section :aria-label="kindTitles[kind]">
    <h2>
      {{ kindTitles[kind] }} <span class="quiet">{{ grouped(count) }}</span>
    </h2>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="isPending" class="quiet">Reading …</p>
    <ul>
      <li v-for="item in items" :key="item.id">
        <span class="what">
          <RouterLink :to="linkTo(item)"
            ><bdi>{{ item.title }}</bdi></RouterLink
          >
          <bdi class="quiet about">{{ item.about }}</bdi>
        </span>
        <span class="who"
          ><bdi v-if="item.who">{{ item.who }}</bdi
          ><template v-if="item.at">, {{ shortTime(item.at) }}</template></span
        >
        <span class="quiet by" :title="`gathered ${fullTime(item.gatheredAt)}`">by {{ item.gatheredBy }}</span>
        <PressPopover v-if="open" title="Take out …">
          <form class="why" @submit.prevent="remove(item)">
            <Input
              v-model:value="why"
              aria-label="Why it does not belong here"
              placeholder="Why it does not belong here"
            />
            <ProblemNote v-if="problem" :problem="problem" />
            <Button size="small" html-type="submit" :loading="busy" :disabled="why.trim().length < shortest"
              >Take it out of the case</Button
            >
          </form>
        </PressPopover>
      </li>
    </ul>
    <Button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">Show more</Button>
  </section>
</template>

<style scoped>
h2 {
  font-size: 14px;
  font-weight: 650;
  margin: 14px 0 2px;
}
li {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 200px 110px 90px;
  gap: 12px;
  align-items: center;
  padding: 3px 0;
  border-top: 1px solid var(--line-soft);
  font-size: 13px;
  line-height: 19px;
}
.what {
  display: grid;
}
.what > * {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.who,
.by {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.why {
  display: grid;
  gap: 8px;
  width: 300px;
}
</style>
