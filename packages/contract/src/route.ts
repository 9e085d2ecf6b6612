import type { GenericSchema } from 'valibot'
import type { Need } from './permission.ts'

export type Method = 'GET' | 'POST' | 'PUT' | 'DELETE'

/** One operation of the API. `path` is below `/api/v1` with `:name` parameters. */
export interface RouteShape {
  method: Method
  path: string
  needs: Need
  summary: string
  params?: GenericSchema
  query?: GenericSchema
  body?: GenericSchema
  /** Absent for streams and for answers without content. */
  response?: GenericSchema
}

export function route<const R extends RouteShape>(shape: R): R {
  return shape
}
