import { createPrivateKey, createPublicKey, generateKeyPairSync, sign, verify, type KeyObject } from 'node:crypto'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { joinBytes, type NoteKey } from '@spoor/core'

const fileName = 'signing-key.pem'
/** What an Ed25519 public key begins with as SubjectPublicKeyInfo (RFC 8410, 4). */
const spkiHead = Uint8Array.from([0x30, 0x2a, 0x30, 0x05, 0x06, 0x03, 0x2b, 0x65, 0x70, 0x03, 0x21, 0x00])

/** The key that seals are signed with (Ed25519): made at first start, kept in a file that only its owner may read. */
export class SigningKey {
  readonly #secret: KeyObject
  constructor(secret: KeyObject) {
    this.#secret = secret
  }

  static open(dataDir: string): SigningKey {
    return SigningKey.make(dataDir, fileName)
  }

  /** The key in a file, made if there is none. */
  static make(dataDir: string, name: string): SigningKey {
    mkdirSync(dataDir, { recursive: true, mode: 0o755 })
    const file = join(dataDir, name)
    try {
      const { privateKey } = generateKeyPairSync('ed25519')
      writeFileSync(file, privateKey.export({ type: 'pkcs8', format: 'pem' }), { flag: 'wx', mode: 0o600 })
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error
    }
    return new SigningKey(createPrivateKey(readFileSync(file)))
  }

  named(name: string): NoteKey {
    const spki = createPublicKey(this.#secret).export({ type: 'spki', format: 'der' })
    return { name, publicKey: new Uint8Array(spki.subarray(spkiHead.length)) }
  }

  sign(text: string): Uint8Array {
    return new Uint8Array(sign(null, Buffer.from(text), this.#secret))
  }
}

export function signatureHolds(key: NoteKey, text: string, signature: Uint8Array): boolean {
  const spki = createPublicKey({ key: Buffer.from(joinBytes(spkiHead, key.publicKey)), type: 'spki', format: 'der' })
  return verify(null, Buffer.from(text), spki, signature)
}
