/** What long work on a correction is done to. */
export const subjectOf = (correctionId: number) => `correction ${correctionId}`
