/** Whether somebody types there, so that a key is a letter and no command. */
export function isWriting(target: EventTarget | null): boolean {
  return target instanceof Element && target.closest('input:not([type=checkbox]), textarea') !== null
}
