import { ed25519 } from '@noble/curves/ed25519.js'
import { sha256 } from '@noble/hashes/sha2.js'
import type { Place } from '@spoor/contract'
import { proveSave, proveSeal, toHex, type ProofStep, type PackTools, type Sha256 } from '@spoor/core'

const encoder = new TextEncoder()
const decoder = new TextDecoder()
const hash: Sha256 = (data) => sha256(typeof data === 'string' ? encoder.encode(data) : data)
/** What checking takes, by the browser’s own means. */
export const packTools: PackTools = {
  sha256: hash,
  sha256Hex: (text) => toHex(hash(text)),
  signed(signature, text, publicKey) {
    try {
      return ed25519.verify(signature, encoder.encode(text), publicKey)
    } catch {
      // A signature or key of the wrong shape.
      return false
    }
  },
  hasher() {
    const hashing = sha256.create()
    return { update: (bytes) => void hashing.update(bytes), digest: () => hashing.digest() }
  },
  utf8: (bytes) => decoder.decode(bytes),
}

/** The same with time-stamps, for which the browser hashes and checks by itself where the page came over https. */
export async function packToolsWithTime(): Promise<PackTools> {
  if (!globalThis.isSecureContext) return packTools
  const { readTimeStamp } = await import('@spoor/verify/time-stamp')
  return { ...packTools, timeStamp: readTimeStamp }
}

/** Checks a save's place in the ledger from what was handed out alone, without asking the server anything. */
export function prove({ seal, key, index, canonical, proof, openings }: Place): ProofStep[] {
  const { steps, checkpoint } = seal ? proveSeal(packTools, seal.note, key) : { steps: [], checkpoint: null }
  return [...proveSave(packTools, { index: index ?? 0, canonical, proof, openings }, checkpoint), ...steps]
}
