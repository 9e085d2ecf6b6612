<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { routes, type Receiver } from '@spoor/contract'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { shortTime } from '../value/time.ts'

/** Programs that watches may tell, for whoever may let them. */
export interface Props {
  receivers: readonly Receiver[]
}
defineProps<Props>()
const emit = defineEmits<{ changed: [] }>()
const { busy, problem, doing } = useDoing()
const name = ref('')
const url = ref('')
const inside = ref(false)
const shortest = 2
const ready = computed(() => name.value.trim().length >= shortest && /^https?:\/\/./.test(url.value))
/** A secret is told once. */
const told = ref<{ name: string; secret: string } | null>(null)
const add = () =>
  doing(async () => {
    const { receiver, secret } = await call(routes.addReceiver, {
      body: { name: name.value, url: url.value, inside: inside.value },
    })
    told.value = { name: receiver.name, secret }
    name.value = url.value = ''
    inside.value = false
    emit('changed')
  })
const renew = (one: Receiver) =>
  doing(async () => {
    const { secret } = await call(routes.renewReceiverSecret, { params: { receiverId: String(one.id) } })
    told.value = { name: one.name, secret }
    emit('changed')
  })
const end = (one: Receiver) =>
  doing(async () => {
    await call(routes.endReceiver, { params: { receiverId: String(one.id) } })
    emit('changed')
  })
</script>

<template>
  <section class="receivers" aria-label="Receivers">
    <h2>
      Receivers <span class="quiet">programs that watches can tell, each message signed</span>
      <PressPopover title="Add a receiver …">
        <form @submit.prevent="add">
          <Input v-model:value="name" aria-label="What it is called" placeholder="What it is called" :maxlength="100" />
          <Input v-model:value="url" aria-label="Its address" placeholder="https://…" :maxlength="2000" />
          <Checkbox v-model:checked="inside">It may be within the own network</Checkbox>
          <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="!ready">Add it</Button>
        </form>
      </PressPopover>
    </h2>
    <ProblemNote v-if="problem" :problem="problem" />
    <p v-if="told" role="status" class="told">
      The secret of <bdi>{{ told.name }}</bdi>, which is told this once: <span class="mono">{{ told.secret }}</span>
    </p>
    <ul>
      <li v-for="one in receivers" :key="one.id">
        <bdi>{{ one.name }}</bdi>
        <bdi class="quiet">{{ one.place }}{{ one.inside ? ', may be within the own network' : '' }}</bdi>
        <span class="quiet">added by {{ one.madeBy }}, {{ shortTime(one.madeAt) }}</span>
        <PressPopover title="Change …">
          <div class="acts">
            <p>Another secret signs beside the one before for a day.</p>
            <Button size="small" :loading="busy" @click="renew(one)">Another secret</Button>
            <p>An ended receiver is told nothing more; what waits for it is given up.</p>
            <Button size="small" danger :loading="busy" @click="end(one)">End it</Button>
          </div>
        </PressPopover>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.receivers {
  padding: 14px 18px 4px;
}
h2 {
  display: flex;
  align-items: baseline;
  gap: 10px;
  font-size: 14px;
  font-weight: 650;
}
h2 > .quiet {
  font-weight: 400;
}
li {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 2fr) minmax(0, 1.4fr) auto;
  gap: 12px;
  align-items: center;
  padding: 4px 0;
  border-top: 1px solid var(--line-soft);
  font-size: 13px;
}
li > * {
  overflow-wrap: anywhere;
}
.told {
  overflow-wrap: anywhere;
}
form,
.acts {
  display: grid;
  gap: 8px;
  width: 320px;
}
</style>
