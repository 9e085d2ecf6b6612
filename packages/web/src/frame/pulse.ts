import type { Pulse } from '@spoor/contract'
import { defineStore } from 'pinia'
import { ref } from 'vue'

/** How the ledger stands, as the server tells it; `lost` when it no longer does. */
export const usePulse = defineStore('pulse', () => {
  const pulse = ref<Pulse | null>(null)
  const lost = ref(false)
  let events: EventSource | undefined

  function start(): void {
    if (events) return
    events = new EventSource('/api/v1/pulse')
    events.onmessage = (event: MessageEvent<string>) => {
      pulse.value = JSON.parse(event.data) as Pulse
      lost.value = false
    }
    // The browser tries again by itself while the connection is merely broken.
    events.onerror = () => {
      lost.value = true
    }
  }

  function stop(): void {
    events?.close()
    events = undefined
    pulse.value = null
  }

  return { pulse, lost, start, stop }
})
