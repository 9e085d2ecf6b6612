<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { routes, type GuardLine } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PickList from '../frame/PickList.vue'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { shortTime } from '../value/time.ts'

/** For whom a guard was opened, by whom and why; opening it for somebody else, and closing it before its time. */
export interface Props {
  line: GuardLine
  /** Who may be meant. */
  actors: readonly { value: string; label: string }[]
}
const props = defineProps<Props>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const shortest = 3
const wish = ref({ actor: undefined as string | undefined, minutes: 60, reason: '' })
const spells = [15, 60, 240, 1440].map((minutes) => ({
  value: minutes,
  label: minutes < 60 ? `${minutes} minutes` : counted(minutes / 60, 'hour'),
}))
const mayOpen = computed(
  () => session.may('guards.open') && props.line.standing !== 'draft' && props.line.guard.mode === 'refuse',
)
const isOpen = ({ closedAt, until }: GuardLine['openings'][number]) =>
  closedAt === null && Date.parse(until) > Date.now()
const params = computed(() => ({ guardId: String(props.line.id) }))
const { busy, problem, doing } = useDoing()
const open = () =>
  doing(async () => {
    await call(routes.openGuard, { params: params.value, body: { ...wish.value, actor: wish.value.actor! } })
    wish.value = { actor: undefined, minutes: 60, reason: '' }
    emit('changed')
  })
const close = (openingId: number) =>
  doing(async () => {
    await call(routes.closeGuard, { params: { ...params.value, openingId: String(openingId) } })
    emit('changed')
  })
</script>

<template>
  <section v-if="mayOpen || line.openings.length > 0" aria-label="Opened for somebody">
    <h2>opened for somebody</h2>
    <p v-if="line.openings.length === 0" class="quiet">Never.</p>
    <ul>
      <li v-for="one in line.openings" :key="one.id">
        <bdi>{{ one.actor }}</bdi>, by {{ one.by }}, {{ shortTime(one.from) }} to
        {{ shortTime(one.closedAt ?? one.until) }}{{ one.closedBy ? ` (closed by ${one.closedBy})` : '' }}:
        <bdi>{{ one.reason }}</bdi>
        <button
          v-if="isOpen(one) && session.may('guards.open')"
          type="button"
          class="plain link"
          @click="close(one.id)"
        >
          Close it now
        </button>
      </li>
    </ul>
    <ProblemNote v-if="problem" :problem="problem" />
    <!-- Closed again once it is opened for somebody. -->
    <div v-if="mayOpen">
      <PressPopover :key="line.openings.length" title="Open it for somebody …">
        <div class="opening">
          <PickList
            v-model:value="wish.actor as never"
            show-search
            option-filter-prop="label"
            :options="actors"
            aria-label="For whom it is opened"
            placeholder="For whom"
            size="small"
          />
          <PickList v-model:value="wish.minutes" :options="spells" aria-label="For how long" size="small" />
          <Input v-model:value="wish.reason" aria-label="Why it is opened" placeholder="Why" size="small" />
          <Button
            size="small"
            :loading="busy"
            :disabled="!wish.actor || wish.reason.trim().length < shortest"
            @click="open"
            >Open it</Button
          >
          <p class="quiet">It closes by itself. Every save that passes says so.</p>
        </div>
      </PressPopover>
    </div>
  </section>
</template>

<style scoped>
.opening {
  display: grid;
  gap: 8px;
  width: 280px;
}
.link {
  margin-left: 6px;
  color: var(--pine);
}
h2 {
  font-size: 13px;
  font-weight: 650;
  color: var(--soft);
}
</style>
