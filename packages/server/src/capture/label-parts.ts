import { composedLabel, recordPlace, type LabelParts } from '@spoor/core'
import * as v from 'valibot'

const Parts = v.object({ parts: v.array(v.nullable(v.string())), refersTo: v.array(v.nullable(v.number())) })

/** Reads what a label is made of, as it was captured. @returns null for what is none: the label stands as it is then. */
export function readLabelParts(json: string | null): LabelParts | null {
  if (json === null) return null
  try {
    const parsed = v.safeParse(Parts, JSON.parse(json))
    return parsed.success ? parsed.output : null
  } catch {
    return null
  }
}

/** A label by what the records that it names are called, by {@link recordPlace}. */
export function calledBy(label: string, parts: LabelParts | null, names: ReadonlyMap<string, string>): string {
  return parts === null ? label : composedLabel(parts, (typeId, key) => names.get(recordPlace(typeId, key)))
}
