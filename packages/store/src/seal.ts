import { Failure } from '@tide/core/failure'
import { createCipheriv, createDecipheriv, createHash, randomBytes, scryptSync } from 'node:crypto'
import { readFile, writeFile } from 'node:fs/promises'
import { join } from 'node:path'

/** Marks texts that were sealed by a passphrase with a salt, which follows. */
const SALTED = 'scrypt:'
const SALT_BYTES = 16
/** About a tenth of a second and 32 MB: https://www.rfc-editor.org/rfc/rfc7914 */
const SCRYPT = { N: 2 ** 15, r: 8, p: 1, maxmem: 64 * 2 ** 20 }

/** Keeps secrets encrypted at rest: AES-256-GCM, a fresh nonce for each value. */
export class Seal {
  /** Of a passphrase: the salt that new values are sealed with; the first that is met, so that few keys need be made. */
  private salt: Buffer | undefined
  private readonly keys = new Map<string, Buffer>()
  private readonly key: { file: Buffer } | { passphrase: string }

  private constructor(key: Seal['key']) {
    this.key = key
  }

  /** With the passphrase if there is one, else with the folder's key file, which is made at first use (mode 600). */
  static async open(folder: string, passphrase: string | undefined): Promise<Seal> {
    if (passphrase) return new Seal({ passphrase })
    const file = join(folder, 'secrets.key')
    try {
      return new Seal({ file: Buffer.from(await readFile(file, 'utf8'), 'hex') })
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error
    }
    const key = randomBytes(32)
    await writeFile(file, key.toString('hex'), { mode: 0o600, flag: 'wx' })
    return new Seal({ file: key })
  }

  /** Whether the text was sealed in a way that is not good enough any more. */
  isOutdated(sealed: string): boolean {
    return 'passphrase' in this.key && !sealed.startsWith(SALTED)
  }

  close(text: string): string {
    if ('file' in this.key) return encrypted(this.key.file, text).toString('base64')
    this.salt ??= randomBytes(SALT_BYTES)
    return SALTED + Buffer.concat([this.salt, encrypted(this.keyOf(this.salt), text)]).toString('base64')
  }

  /** Throws a Failure when the key is another one, or the text was changed. */
  open(sealed: string): string {
    try {
      if ('file' in this.key) return decrypted(this.key.file, Buffer.from(sealed, 'base64'))
      const { passphrase } = this.key
      if (!sealed.startsWith(SALTED))
        return decrypted(createHash('sha256').update(passphrase).digest(), Buffer.from(sealed, 'base64'))
      const bytes = Buffer.from(sealed.slice(SALTED.length), 'base64')
      const salt = bytes.subarray(0, SALT_BYTES)
      this.salt ??= salt
      return decrypted(this.keyOf(salt), bytes.subarray(SALT_BYTES))
    } catch (cause) {
      throw new Failure(
        'structural',
        'The secrets of this connection cannot be read with the present key.',
        'Put back the file secrets.key (or TIDE_KEY) they were written with, or enter them anew.',
        cause,
      )
    }
  }

  private keyOf(salt: Buffer): Buffer {
    const name = salt.toString('hex')
    let key = this.keys.get(name)
    if (!key && 'passphrase' in this.key) {
      key = scryptSync(this.key.passphrase, salt, 32, SCRYPT)
      this.keys.set(name, key)
    }
    return key!
  }
}

function encrypted(key: Buffer, text: string): Buffer {
  const nonce = randomBytes(12)
  const cipher = createCipheriv('aes-256-gcm', key, nonce)
  const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()])
  return Buffer.concat([nonce, cipher.getAuthTag(), body])
}

function decrypted(key: Buffer, bytes: Buffer): string {
  const decipher = createDecipheriv('aes-256-gcm', key, bytes.subarray(0, 12))
  decipher.setAuthTag(bytes.subarray(12, 28))
  return Buffer.concat([decipher.update(bytes.subarray(28)), decipher.final()]).toString('utf8')
}
