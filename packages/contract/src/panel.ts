import * as v from 'valibot'
import { Action, Captured, Instant, IntParam } from './common.ts'
import { route } from './route.ts'

/** A business application that may show records' trails on its own pages. */
export const Application = v.object({
  id: v.number(),
  name: v.string(),
  origin: v.string(),
  madeBy: v.string(),
  madeAt: Instant,
  endedAt: v.nullable(Instant),
})
export type Application = v.InferOutput<typeof Application>

/** What a panel shows of one record: no more than its reader may see. */
export const PanelStory = v.object({
  typeName: v.string(),
  label: v.string(),
  /** Fields that changed, to choose from. */
  fields: v.array(v.object({ id: v.number(), name: v.string() })),
  /** The latest first. */
  saves: v.array(
    v.object({
      id: v.string(),
      at: Instant,
      action: Action,
      by: v.string(),
      /** Whether only the login that wrote it says who it was. */
      claimed: v.boolean(),
      channel: v.string(),
      reason: v.nullable(v.string()),
      changes: v.array(
        v.object({
          fieldId: v.number(),
          before: Captured,
          after: Captured,
          hidden: v.nullable(v.picklist(['erased', 'masked'])),
          /** What the values are called, where they name other records. */
          beforeLabel: v.nullable(v.string()),
          afterLabel: v.nullable(v.string()),
        }),
      ),
    }),
  ),
  /** Whether there are older ones than are told. */
  more: v.boolean(),
  /** Whether the reader sees a part of its saves only. */
  partial: v.boolean(),
  /** The zone that the reader is told times in; null is the browser's. */
  zone: v.nullable(v.string()),
})
export type PanelStory = v.InferOutput<typeof PanelStory>

const Origin = v.pipe(
  v.string(),
  v.trim(),
  v.maxLength(300),
  v.regex(
    /^https?:\/\/(\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9.-]+)(:\d{1,5})?$/,
    'Give where its pages are, as https://desk.example.',
  ),
)

export const panelRoutes = {
  listApplications: route({
    method: 'GET',
    path: '/applications',
    needs: 'people.manage',
    summary: 'Business applications that may show trails on their own pages',
    response: v.object({ applications: v.array(Application) }),
  }),
  addApplication: route({
    method: 'POST',
    path: '/applications',
    needs: 'people.manage',
    summary: 'Let a business application show trails to people who have access here; its key is told this once',
    body: v.strictObject({
      name: v.pipe(v.string(), v.trim(), v.minLength(2), v.maxLength(120)),
      origin: Origin,
    }),
    response: v.object({ application: Application, key: v.string() }),
  }),
  endApplication: route({
    method: 'DELETE',
    path: '/applications/:applicationId',
    needs: 'people.manage',
    summary: 'Let a business application in no more',
    params: v.object({ applicationId: IntParam }),
    response: Application,
  }),
  /** Asked by an application's server, with its key as a bearer token. */
  makePanelTicket: route({
    method: 'POST',
    path: '/panel/tickets',
    needs: 'nobody',
    summary: 'A ticket for one person and one record, for some minutes; with the application’s key',
    body: v.strictObject({
      /** The name that the person signs in to Spoor with, or is known by as an actor. */
      user: v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(300)),
      /** The record's table, `schema.table`. */
      table: v.pipe(v.string(), v.minLength(1), v.maxLength(200)),
      /** The values of its key, as text. */
      key: v.pipe(v.array(v.pipe(v.string(), v.maxLength(1000))), v.minLength(1), v.maxLength(32)),
    }),
    response: v.object({ ticket: v.string(), endsAt: Instant }),
  }),
  /** Asked by the panel in somebody's browser, with a ticket as a bearer token. */
  readPanelStory: route({
    method: 'GET',
    path: '/panel/story',
    needs: 'nobody',
    summary: 'The changes of the record that a ticket is for, as far as its person may see them',
    query: v.object({ field: v.optional(v.pipe(v.string(), v.regex(/^\d{1,9}$/), v.transform(Number))) }),
    response: PanelStory,
  }),
}
