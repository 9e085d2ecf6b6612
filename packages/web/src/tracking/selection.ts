import type { TrackedField, TrackedType } from '@spoor/contract'
import { useEventListener } from '@vueuse/core'
import { computed, ref, type Ref } from 'vue'

export interface PickedField {
  type: TrackedType
  field: TrackedField
}

/**
 * Fields picked on the map, by pointer (press, drag over, with Shift a range, with Ctrl one more) or by keyboard
 * (arrows, with Shift a range, Ctrl-A the whole type). `shown` is every field on the map in its order.
 */
export function useSelection(shown: Ref<readonly PickedField[]>) {
  const ids = ref<ReadonlySet<number>>(new Set())
  const anchor = ref<number | null>(null)
  const focusId = ref<number | null>(null)
  const placeOf = computed(() => new Map(shown.value.map(({ field }, at) => [field.id, at])))
  let dragging = false

  function range(from: number, to: number): number[] {
    const [a, b] = [placeOf.value.get(from) ?? 0, placeOf.value.get(to) ?? 0]
    return shown.value.slice(Math.min(a, b), Math.max(a, b) + 1).map(({ field }) => field.id)
  }

  function pick(fieldId: number, { extend, add }: { extend: boolean; add: boolean }): void {
    if (extend && anchor.value !== null)
      ids.value = new Set([...(add ? ids.value : []), ...range(anchor.value, fieldId)])
    else if (add) {
      const next = new Set(ids.value)
      if (!next.delete(fieldId)) next.add(fieldId)
      ids.value = next
      anchor.value = fieldId
    } else {
      ids.value = new Set([fieldId])
      anchor.value = fieldId
    }
    focusId.value = fieldId
  }

  const fieldOf = (event: Event) => {
    const tile = (event.target as HTMLElement).closest<HTMLElement>('[data-field]')
    return tile && tile.getAttribute('aria-disabled') !== 'true' ? Number(tile.dataset['field']) : null
  }

  function onPointerDown(event: PointerEvent): void {
    const fieldId = fieldOf(event)
    if (fieldId === null || event.button !== 0) return
    pick(fieldId, { extend: event.shiftKey, add: event.ctrlKey || event.metaKey })
    dragging = true
  }
  function onPointerOver(event: PointerEvent): void {
    const fieldId = dragging ? fieldOf(event) : null
    if (fieldId !== null && anchor.value !== null) ids.value = new Set(range(anchor.value, fieldId))
  }
  useEventListener('pointerup', () => (dragging = false))

  /** Moves the focus by places in the map's order. @returns the field that has it now. */
  function move(by: number, extend: boolean): number | null {
    const at = focusId.value === null ? -1 : (placeOf.value.get(focusId.value) ?? -1)
    const next = shown.value[Math.min(shown.value.length - 1, Math.max(0, at + by))]
    if (!next) return null
    pick(next.field.id, { extend, add: false })
    return next.field.id
  }

  /** The first field of the type above or below. */
  function moveType(by: 1 | -1, extend: boolean): number | null {
    const at = focusId.value === null ? 0 : (placeOf.value.get(focusId.value) ?? 0)
    const typeId = shown.value[at]?.type.id
    let next = at
    while (shown.value[next] && shown.value[next]!.type.id === typeId) next += by
    if (by < 0) while (shown.value[next - 1]?.type.id === shown.value[next]?.type.id && next > 0) next -= 1
    const there = shown.value[next]
    if (!there) return null
    pick(there.field.id, { extend, add: false })
    return there.field.id
  }

  function all(type: TrackedType): void {
    ids.value = new Set(type.fields.map((field) => field.id))
    anchor.value = type.fields[0]?.id ?? null
  }

  return {
    ids,
    focusId,
    picked: computed(() => shown.value.filter(({ field }) => ids.value.has(field.id))),
    pick,
    move,
    moveType,
    all,
    none: () => (ids.value = new Set()),
    onPointerDown,
    onPointerOver,
  }
}
