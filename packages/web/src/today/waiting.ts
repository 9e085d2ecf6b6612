import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { call } from '../api/client.ts'

const refreshMs = 30_000

/** What waits for the person who reads. */
export function useWaiting() {
  return useQuery({ queryKey: ['waiting'], queryFn: () => call(routes.readWaiting), refetchInterval: refreshMs })
}
