/** Addresses as they are typed, with commas between. */
export const addressesIn = (text: string): string[] =>
  text
    .split(/[,;\s]+/)
    .map((one) => one.trim())
    .filter((one) => one !== '')
