/** The objects of a bucket in a folder: each is a file, named after its key. */
import { createHash } from 'node:crypto'
import { mkdirSync, readdirSync, readFileSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'

export interface ObjectInfo {
  key: string
  bytes: number
  modified: Date
  etag: string
}

export class Objects {
  private readonly folder: string
  private readonly known = new Map<string, ObjectInfo>()
  private writes = 0

  constructor(folder: string) {
    this.folder = folder
    mkdirSync(folder, { recursive: true })
    for (const name of readdirSync(folder)) {
      const path = join(folder, name)
      if (name.startsWith('.')) rmSync(path)
      else this.know(Buffer.from(name, 'base64url').toString(), readFileSync(path), statSync(path).mtime)
    }
  }

  put(key: string, body: Uint8Array): ObjectInfo {
    const path = this.path(key)
    const unfinished = join(this.folder, `.${this.writes++}`)
    writeFileSync(unfinished, body)
    renameSync(unfinished, path)
    return this.know(key, body, new Date())
  }

  info(key: string): ObjectInfo | undefined {
    return this.known.get(key)
  }

  get(key: string): Buffer {
    return readFileSync(this.path(key))
  }

  remove(key: string): void {
    this.known.delete(key)
    rmSync(this.path(key), { force: true })
  }

  /** In the order of their keys' bytes. */
  all(): ObjectInfo[] {
    return [...this.known.values()].sort((a, b) => Buffer.compare(Buffer.from(a.key), Buffer.from(b.key)))
  }

  private know(key: string, body: Uint8Array, modified: Date): ObjectInfo {
    const etag = `"${createHash('md5').update(body).digest('hex')}"`
    const info = { key, bytes: body.length, modified, etag }
    this.known.set(key, info)
    return info
  }

  private path(key: string): string {
    return join(this.folder, Buffer.from(key).toString('base64url'))
  }
}
