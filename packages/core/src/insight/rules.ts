import type { Rule } from './model.ts'
import { afterSignOff } from './rules/after-sign-off.ts'
import { backDated } from './rules/back-dated.ts'
import { burst } from './rules/burst.ts'
import { firstTouch, gap, tookAlong, unknownActor, unusualHours } from './rules/deeds.ts'
import { factor } from './rules/factor.ts'
import { farOutside } from './rules/far-outside.ts'
import { lostMembers } from './rules/lost-members.ts'
import { thereAndBack } from './rules/there-and-back.ts'
import { underLimit } from './rules/under-limit.ts'

/** Every reason for which something can stand out. */
export const rules: readonly Rule[] = [
  unknownActor,
  thereAndBack,
  underLimit,
  lostMembers,
  factor,
  farOutside,
  backDated,
  tookAlong,
  burst,
  afterSignOff,
  gap,
  firstTouch,
  unusualHours,
]
