<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime } from '../value/time.ts'

/** Business applications that may show records' trails on their own pages. */
const { data, error, refetch } = useQuery({
  queryKey: ['applications'],
  queryFn: () => call(routes.listApplications),
})
const { busy, problem, doing } = useDoing()
const name = ref('')
const origin = ref('')
/** Told once, to whoever sets the application up. */
const key = ref<string | null>(null)
const add = () =>
  doing(async () => {
    const added = await call(routes.addApplication, { body: { name: name.value, origin: origin.value } })
    key.value = added.key
    name.value = origin.value = ''
    await refetch()
  })
const end = (id: number) =>
  doing(async () => {
    await call(routes.endApplication, { params: { applicationId: String(id) } })
    await refetch()
  })
</script>

<template>
  <section>
    <h2>Applications that show trails</h2>
    <p class="quiet">
      A business application with a key may show a record’s trail on its own page, to people who have access here and as
      far as each of them may see.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <ul v-if="data && data.applications.length > 0">
      <li v-for="one in data.applications" :key="one.id" :class="{ off: one.endedAt }">
        <b
          ><bdi>{{ one.name }}</bdi></b
        >
        <span class="mono">{{ one.origin }}</span>
        <span class="quiet">let in by {{ one.madeBy }}, {{ fullTime(one.madeAt) }}</span>
        <span v-if="one.endedAt" class="quiet">ended {{ fullTime(one.endedAt) }}</span>
        <button v-else class="plain link" :disabled="busy" :aria-label="`End ${one.name}`" @click="end(one.id)">
          End it
        </button>
      </li>
    </ul>
    <p v-if="key !== null" role="status">
      Its key, which is told this once and belongs on the application’s server: <span class="mono key">{{ key }}</span>
      <button class="plain link" @click="key = null">I have it</button>
    </p>
    <form @submit.prevent="add">
      <Input v-model:value="name" size="small" aria-label="The application’s name" placeholder="Its name" />
      <Input
        v-model:value="origin"
        size="small"
        aria-label="Where its pages are"
        placeholder="Where its pages are: https://desk.example"
      />
      <Button size="small" html-type="submit" :loading="busy" :disabled="name.trim().length < 2 || origin.trim() === ''"
        >Let it in</Button
      >
    </form>
    <ProblemNote v-if="problem" :problem="problem" />
  </section>
</template>

<style scoped>
h2 {
  font-size: 14px;
  font-weight: 650;
}
p {
  max-width: 720px;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  padding: 3px 0;
}
li.off {
  color: var(--soft);
}
form {
  display: flex;
  gap: 8px;
  max-width: 720px;
  margin-top: 6px;
}
.key {
  overflow-wrap: anywhere;
}
.link {
  color: var(--pine);
}
</style>
