import type { Days, Stage } from './days.ts'
import type { Incident } from './incident.ts'
import { deletedTenant, emptiedServices } from './incidents-of-loss.ts'
import { mistypedBand, uplift } from './incidents-of-rent.ts'
import { backdatedCertificates, bankAccountThereAndBack, raisedUnitPrices } from './incidents-of-trust.ts'
import { delegate, gap, ordinaryDays, terminal } from './incidents-unseen.ts'

/** Puts the incidents on the diary. The records are filled in as the days are played. */
export function plant(days: Days, stage: Stage): Incident[] {
  return [
    uplift(days, stage),
    bankAccountThereAndBack(days, stage),
    backdatedCertificates(days, stage),
    raisedUnitPrices(days, stage),
    emptiedServices(days, stage),
    deletedTenant(days, stage),
    mistypedBand(days, stage),
    gap(days, stage),
    terminal(days, stage),
    delegate(days, stage),
    ordinaryDays(stage),
  ]
}
