<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { addressOf, call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SpoorMark from '../frame/SpoorMark.vue'
import { fullTime } from '../value/time.ts'
import { sizeWords } from './words.ts'

/** Where a link leads that a pack was handed over by: no sign-in is needed. */
const route = useRoute()
const params = computed(() => ({ token: String(route.params['token']) }))
const { data, error, refetch } = useQuery({
  queryKey: ['handed', params],
  queryFn: () => call(routes.readHandedPack, { params: params.value }),
  retry: false,
})
const countedAfterMs = 1500
const taken = () => setTimeout(() => void refetch(), countedAfterMs)
</script>

<template>
  <main class="page" tabindex="0">
    <h1><SpoorMark /> Evidence for you</h1>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="!data" class="quiet">Reading …</p>
    <template v-else>
      <p>
        Pack {{ data.number }}, “<bdi>{{ data.title }}</bdi
        >”, handed over by {{ data.by }}: {{ sizeWords(data.size) }}. The link can be used
        {{ counted(data.left, 'more time') }}, until {{ fullTime(data.endsAt) }}; that you take it is written down.
      </p>
      <p>
        <a class="take" :href="addressOf(routes.takeHandedPack, { params })" download @click="taken">Take the file</a>
      </p>
      <p>
        Then <RouterLink to="/check">check it</RouterLink>, here or with <span class="mono">spoor-verify</span>. The
        SHA-256 of the file is <span class="mono digest">{{ data.digest }}</span>.
      </p>
    </template>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped src="./take.css"></style>
<style scoped>
main {
  width: 100%;
  max-width: 820px;
  margin: 0 auto;
}
p {
  margin: 10px 0;
}
.digest {
  overflow-wrap: anywhere;
}
</style>
