import { useQuery } from '@tanstack/vue-query'
import { trailOf } from '@spoor/core'
import { routes } from '@spoor/contract'
import { computed, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call } from '../api/client.ts'
import { usePulse } from '../frame/pulse.ts'
import { lanesOf, timesOf } from './story.ts'

/** Another record of the same type, put beside one by the link, with what core reckons from its trail. */
export function useBeside(typeId: Ref<number>, fieldIds: Ref<readonly number[]>) {
  const route = useRoute()
  const router = useRouter()
  const pulse = usePulse()
  const key = computed(() => String(route.query['beside'] ?? ''))
  const { data, error } = useQuery({
    queryKey: ['record-story', typeId, key, computed(() => pulse.pulse?.latestSave)],
    queryFn: () => call(routes.readStoryOfRecord, { query: { typeId: String(typeId.value), key: key.value } }),
    enabled: computed(() => key.value !== ''),
    placeholderData: (before) => (before?.record.key === key.value ? before : undefined),
  })
  const story = computed(() => (key.value === '' ? undefined : data.value))
  const trail = computed(() => (story.value ? trailOf(story.value) : null))
  return {
    wanted: computed(() => key.value !== ''),
    story,
    error,
    trail,
    lanes: computed(() => (trail.value ? lanesOf(trail.value, fieldIds.value) : [])),
    times: computed(() => timesOf(story.value?.saves ?? [])),
    /** @param other a record's key; null puts it away */
    put(other: string | null) {
      const { beside: _, ...rest } = route.query
      void router.replace({ query: other === null ? rest : { ...rest, beside: other } })
    },
  }
}
