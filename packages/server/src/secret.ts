import { createCipheriv, createDecipheriv, hkdfSync, randomBytes } from 'node:crypto'
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

/** The installation's secret: 32 random bytes in a file that only its owner may read, made at first start. */
export class Vault {
  readonly #key: Buffer
  constructor(key: Buffer) {
    if (key.length !== 32) throw new Error('the secret must be 32 bytes')
    this.#key = key
  }

  static open(dataDir: string): Vault {
    mkdirSync(dataDir, { recursive: true, mode: 0o755 })
    const file = join(dataDir, 'secret.key')
    try {
      writeFileSync(file, randomBytes(32), { flag: 'wx', mode: 0o600 })
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST') throw error
    }
    return new Vault(readFileSync(file))
  }

  /** A key for one purpose; different purposes give unrelated keys (RFC 5869). */
  derive(purpose: string): Buffer {
    return Buffer.from(hkdfSync('sha256', this.#key, Buffer.alloc(0), `spoor/${purpose}`, 32))
  }

  /** AES-256-GCM: 12 bytes nonce, 16 bytes tag, ciphertext. */
  seal(text: string): Buffer {
    const nonce = randomBytes(12)
    const cipher = createCipheriv('aes-256-gcm', this.derive('credentials'), nonce)
    const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()])
    return Buffer.concat([nonce, cipher.getAuthTag(), body])
  }

  /** @throws when the bytes were not sealed with this secret. */
  unseal(sealed: Buffer): string {
    const decipher = createDecipheriv('aes-256-gcm', this.derive('credentials'), sealed.subarray(0, 12))
    decipher.setAuthTag(sealed.subarray(12, 28))
    return Buffer.concat([decipher.update(sealed.subarray(28)), decipher.final()]).toString('utf8')
  }
}
