import { ed25519 } from '@noble/curves/ed25519.js'
import { sha256 } from '@noble/hashes/sha2.js'
import type { Place } from '@spoor/contract'
import { proveSave, proveSeal, toHex, type ProofStep, type ProofTools, type Sha256 } from '@spoor/core'

const encoder = new TextEncoder()
const hash: Sha256 = (data) => sha256(typeof data === 'string' ? encoder.encode(data) : data)
const tools: ProofTools = {
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
}

/** Checks a save's place in the ledger from what was handed out alone, without asking the server anything. */
export function prove({ seal, key, index, canonical, proof, openings }: Place): ProofStep[] {
  const { steps, checkpoint } = seal ? proveSeal(tools, seal.note, key) : { steps: [], checkpoint: null }
  return [...proveSave(tools, { index: index ?? 0, canonical, proof, openings }, checkpoint), ...steps]
}
