import * as v from 'valibot'
import { Captured, Instant, IntParam, Moment, RecordKey } from './common.ts'
import { Reference, Save } from './changes.ts'
import { route } from './route.ts'

/** Something on a record's time line beside its saves. */
export const RecordMark = v.object({
  kind: v.picklist(['run', 'story', 'question', 'correction', 'baseline']),
  id: v.string(),
  at: Instant,
  words: v.string(),
})
export type RecordMark = v.InferOutput<typeof RecordMark>

/** Everything the trail has of one record, whatever keys it had. */
export const RecordStory = v.object({
  record: v.object({
    typeId: v.number(),
    /** The key it has now, or had last. */
    key: v.string(),
    label: v.string(),
    deleted: v.boolean(),
    /** Keys it had before, the latest first. */
    formerKeys: v.array(v.string()),
  }),
  /** In the order of the ledger, the oldest first. */
  saves: v.array(Save),
  /** The spells in which each field was tracked. Empty where somebody sees a part of the saves only. */
  coverage: v.array(
    v.object({
      fieldId: v.number(),
      from: Instant,
      to: v.nullable(Instant),
      because: v.nullable(v.string()),
    }),
  ),
  /** What it held when tracking began, without a change that brought it. Empty where somebody sees a part only. */
  found: v.array(
    v.object({
      fieldId: v.number(),
      at: Instant,
      value: Captured,
      hidden: v.nullable(v.picklist(['erased', 'masked'])),
    }),
  ),
  /** Whether there are older saves than are told. */
  more: v.boolean(),
  /** Whether the reader's reach leaves saves of it out, so that what it held cannot be reckoned. */
  partial: v.boolean(),
  references: v.array(Reference),
  /** What people and Spoor have made of its saves, in the order of time; as far as the reader may read that. */
  marks: v.array(RecordMark),
  /** Its own page in the business application. */
  page: v.nullable(v.string()),
})
export type RecordStory = v.InferOutput<typeof RecordStory>

/** What the source holds of a record now. It is not evidence: nobody has sealed it. */
export const PresentRecord = v.object({
  at: Instant,
  /** Whether the source has the record. */
  there: v.boolean(),
  /** Whether changes of it were captured and are still to be collected: then it is not to be held against the trail. */
  waiting: v.boolean(),
  /** The latest save of it when this had been read; a story that ends before it is older. */
  lastSaveId: v.nullable(v.string()),
  /** Of tracked fields that are kept as values, are not masked and had nothing erased; long ones cut as in the story. */
  values: v.array(v.object({ fieldId: v.number(), value: Captured })),
})
export type PresentRecord = v.InferOutput<typeof PresentRecord>

/** What proves what was found of one record (docs/proof.md, rules 15 and 16). */
export const FoundProof = v.object({
  canonical: v.string(),
  /** Hashes from its leaf to the root of its taking, in hexadecimal digits. */
  proof: v.array(v.string()),
  /** What opens the commitments of values that may be shown. */
  openings: v.array(v.object({ fieldId: v.number(), salt: v.string(), value: Captured })),
  /** The event that says the root; it is sealed with the others. */
  words: v.string(),
})
export type FoundProof = v.InferOutput<typeof FoundProof>

/** Some records of a type as they stand, by their names. */
export const StandingPage = v.object({
  records: v.array(
    v.object({
      key: v.string(),
      label: v.string(),
      /** When it was deleted, of one that is named for having been deleted in the marked time; it has no values then. */
      deletedAt: v.nullable(Instant),
      /** In the order in which fields were asked for. */
      values: v.array(
        v.object({
          fieldId: v.number(),
          /** Null is NULL, unless it is not known. */
          value: Captured,
          /** Why it is not known; null where it is. */
          unknown: v.nullable(v.picklist(['untracked', 'gap', 'unseen', 'contradicted', 'erased', 'masked'])),
          /** Whether there is more of it than is told. */
          cut: v.boolean(),
          /** Whether it was there when somebody looked, and no save says how it came. */
          found: v.boolean(),
          /** When it came about, or was seen. */
          since: v.nullable(Instant),
          /** How often it was changed in the marked time; 2 stands for more than once. */
          times: v.number(),
        }),
      ),
    }),
  ),
  /** So many saves are still to be read before anything can be told; then there are no records. */
  behind: v.number(),
  /** So many records were taken in and are not among these yet. */
  coming: v.number(),
  references: v.array(Reference),
  /** How many records there are on all pages; not said where nothing but their order was asked for. */
  total: v.nullable(v.number()),
  next: v.nullable(v.string()),
})
export type StandingPage = v.InferOutput<typeof StandingPage>

/** Numbers of fields, with commas between. */
const FieldIds = v.pipe(
  v.string(),
  v.regex(/^\d{1,9}(,\d{1,9}){0,1599}$/, 'Give the numbers of 1 to 1,600 fields with commas between.'),
  v.transform((text) => [...new Set(text.split(',').map(Number))]),
)

/** What a field is to hold, for a list of records as they stand. */
export const StandingCondition = v.strictObject({
  fieldId: v.pipe(v.number(), v.integer(), v.minValue(1), v.maxValue(2_147_483_647)),
  is: v.picklist(['equal', 'other', 'containing', 'more', 'less', 'empty', 'filled']),
  text: v.pipe(v.string(), v.maxLength(2000)),
})
export type StandingCondition = v.InferOutput<typeof StandingCondition>

const Conditions = v.pipe(
  v.string(),
  v.maxLength(20_000),
  v.rawTransform(({ dataset, addIssue, NEVER }) => {
    try {
      const parsed = v.safeParse(v.pipe(v.array(StandingCondition), v.maxLength(10)), JSON.parse(dataset.value))
      if (parsed.success) return parsed.output
    } catch {
      // Said below.
    }
    addIssue({ message: 'Give up to ten conditions as a JSON list.' })
    return NEVER
  }),
)

/** Which records of a type, as of when, in which order, and from when on changes are marked. */
const gridQuery = {
  typeId: IntParam,
  fields: FieldIds,
  words: v.optional(v.pipe(v.string(), v.trim(), v.minLength(1), v.maxLength(200))),
  /** Now, unless said. */
  at: v.optional(Moment),
  marks: v.optional(Moment),
  where: v.optional(Conditions),
  /** By name, unless said: the number of a field, with a minus before it for the greatest first. */
  order: v.optional(v.pipe(v.string(), v.regex(/^-?\d{1,9}$/))),
}

const recordQuery = v.object({ typeId: IntParam, key: RecordKey })

export const recordRoutes = {
  readPresentRecord: route({
    method: 'GET',
    path: '/records/present',
    needs: 'changes.read',
    summary: 'What the source holds of one record now',
    query: recordQuery,
    response: PresentRecord,
  }),
  listStanding: route({
    method: 'GET',
    path: '/records/standing',
    needs: 'changes.read',
    summary: 'The records of a type as they stand, or stood at a moment; never older than the ledger',
    query: v.object({
      ...gridQuery,
      after: v.optional(v.pipe(v.string(), v.maxLength(20_000))),
    }),
    response: StandingPage,
  }),
  exportStanding: route({
    method: 'GET',
    path: '/records/standing.csv',
    needs: 'changes.export',
    summary: 'The records of a type as they stand, or stood at a moment, as CSV: a line a record, a column a field',
    query: v.object(gridQuery),
  }),
  exportStandingWorkbook: route({
    method: 'GET',
    path: '/records/standing.xlsx',
    needs: 'changes.export',
    summary: 'The same as a workbook: numbers are numbers, everything else is text',
    query: v.object(gridQuery),
  }),
  proveFound: route({
    method: 'GET',
    path: '/records/found',
    needs: 'custody.read',
    summary: 'What was found of one record when tracking began, with what proves it',
    query: recordQuery,
    response: v.object({ found: v.array(FoundProof) }),
  }),
  readStoryOfRecord: route({
    method: 'GET',
    path: '/records/story',
    needs: 'changes.read',
    summary: 'Every save of one record, through all keys it had, with the spells in which its fields were tracked',
    query: recordQuery,
    response: RecordStory,
  }),
}
