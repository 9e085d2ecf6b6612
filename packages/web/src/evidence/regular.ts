import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { call } from '../api/client.ts'

const refreshMs = 10_000
export const regularKey = ['regular-packs']

/** Packs that are made regularly, and whether Spoor can send any by mail. */
export const useRegularPacks = () =>
  useQuery({ queryKey: regularKey, queryFn: () => call(routes.listRegularPacks), refetchInterval: refreshMs })
