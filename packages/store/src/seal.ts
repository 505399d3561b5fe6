import { Failure } from '@tide/core/failure'
import { createCipheriv, createDecipheriv, createHash, randomBytes } from 'node:crypto'
import { readFile, writeFile } from 'node:fs/promises'
import { join } from 'node:path'

/** Keeps secrets encrypted at rest: AES-256-GCM, a fresh nonce for each value. */
export class Seal {
  private readonly key: Buffer

  private constructor(key: Buffer) {
    this.key = key
  }

  /** With the passphrase if there is one, else with the folder's key file, which is made at first use (mode 600). */
  static async open(folder: string, passphrase: string | undefined): Promise<Seal> {
    if (passphrase) return new Seal(createHash('sha256').update(passphrase).digest())
    const file = join(folder, 'secrets.key')
    try {
      return new Seal(Buffer.from(await readFile(file, 'utf8'), 'hex'))
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'ENOENT') throw error
    }
    const key = randomBytes(32)
    await writeFile(file, key.toString('hex'), { mode: 0o600, flag: 'wx' })
    return new Seal(key)
  }

  close(text: string): string {
    const nonce = randomBytes(12)
    const cipher = createCipheriv('aes-256-gcm', this.key, nonce)
    const body = Buffer.concat([cipher.update(text, 'utf8'), cipher.final()])
    return Buffer.concat([nonce, cipher.getAuthTag(), body]).toString('base64')
  }

  /** Throws a Failure when the key is another one, or the text was changed. */
  open(sealed: string): string {
    const bytes = Buffer.from(sealed, 'base64')
    const decipher = createDecipheriv('aes-256-gcm', this.key, bytes.subarray(0, 12))
    decipher.setAuthTag(bytes.subarray(12, 28))
    try {
      return Buffer.concat([decipher.update(bytes.subarray(28)), decipher.final()]).toString('utf8')
    } catch (cause) {
      throw new Failure(
        'structural',
        'The secrets of this connection cannot be read with the present key.',
        'Put back the file secrets.key (or TIDE_KEY) they were written with, or enter them anew.',
        cause,
      )
    }
  }
}
