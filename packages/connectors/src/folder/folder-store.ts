/** A lake in a folder of this machine. */
import { Failure, faultOf } from '@tide/core/failure'
import { randomBytes } from 'node:crypto'
import { copyFile, link, mkdir, open, readdir, readFile, rename, rm, stat } from 'node:fs/promises'
import { dirname, join } from 'node:path'
import { pathToFileURL } from 'node:url'
import type { ObjectStore, StoredFile } from '../lake/object-store.ts'

/** What nobody has published under its own name yet. */
const UNFINISHED = '.unfinished-'

export class FolderStore implements ObjectStore {
  readonly where: string
  private readonly made = new Set<string>()

  constructor(folder: string) {
    this.where = folder
  }

  async put(path: string, body: AsyncIterable<Uint8Array>): Promise<void> {
    await this.written(path, async (unfinished, target) => {
      const file = await open(unfinished, 'wx')
      try {
        for await (const part of body) await file.write(part)
        await file.sync()
      } finally {
        await file.close()
      }
      await rename(unfinished, target)
    })
  }

  async create(path: string, body: Uint8Array): Promise<boolean> {
    let made = true
    await this.written(path, async (unfinished, target) => {
      await writeSynced(unfinished, body)
      try {
        await link(unfinished, target)
      } catch (thrown) {
        if ((thrown as NodeJS.ErrnoException).code !== 'EEXIST') throw thrown
        made = false
      } finally {
        await rm(unfinished, { force: true })
      }
    })
    return made
  }

  async replace(path: string, body: Uint8Array): Promise<void> {
    await this.written(path, async (unfinished, target) => {
      await writeSynced(unfinished, body)
      await rename(unfinished, target)
    })
  }

  async read(path: string): Promise<Uint8Array | undefined> {
    try {
      return await readFile(this.local(path))
    } catch (thrown) {
      if (isAbsent(thrown)) return undefined
      throw this.failure(thrown)
    }
  }

  uri(path: string): string {
    return pathToFileURL(this.local(path)).href
  }

  async fetch(path: string, to: string): Promise<void> {
    try {
      await copyFile(this.local(path), to)
    } catch (thrown) {
      throw this.failure(thrown)
    }
  }

  local(path: string): string {
    return join(this.where, ...path.split('/'))
  }

  async *list(folder: string, after = ''): AsyncGenerator<string> {
    for (const path of (await this.below(folder)).sort(byBytes)) if (byBytes(path, after) > 0) yield path
  }

  async files(folder: string): Promise<StoredFile[]> {
    try {
      const entries = await readdir(this.local(folder), { withFileTypes: true })
      const named = entries.filter(entry => entry.isFile() && !entry.name.startsWith('.'))
      const files = await Promise.all(
        named.map(async ({ name }) => {
          const path = `${folder}${name}`
          const found = await stat(this.local(path)).catch((thrown: unknown) => {
            if (isAbsent(thrown)) return undefined // it was taken away meanwhile
            throw thrown
          })
          // Of what was moved here, the time of its last change says when it was made elsewhere.
          return found && { path, bytes: found.size, at: found.ctime.toISOString() }
        }),
      )
      return files.flatMap(file => file ?? []).sort((a, b) => byBytes(a.path, b.path))
    } catch (thrown) {
      if (isAbsent(thrown)) return []
      throw this.failure(thrown)
    }
  }

  async folders(folder: string): Promise<string[]> {
    try {
      const entries = await readdir(this.local(folder), { withFileTypes: true })
      return entries.filter(entry => entry.isDirectory()).map(({ name }) => name)
    } catch (thrown) {
      if (isAbsent(thrown)) return []
      throw this.failure(thrown)
    }
  }

  async remove(paths: readonly string[]): Promise<void> {
    try {
      for (const path of paths) await rm(this.local(path), { force: true })
    } catch (thrown) {
      throw this.failure(thrown)
    }
  }

  close(): Promise<void> {
    return Promise.resolve()
  }

  private async below(folder: string): Promise<string[]> {
    try {
      const found: string[] = []
      for (const entry of await readdir(this.local(folder), { withFileTypes: true })) {
        if (entry.isDirectory()) found.push(...(await this.below(`${folder}${entry.name}/`)))
        else if (!entry.name.startsWith(UNFINISHED)) found.push(`${folder}${entry.name}`)
      }
      return found
    } catch (thrown) {
      if (isAbsent(thrown)) return []
      throw this.failure(thrown)
    }
  }

  /** What is named after it is there also after the power has failed. */
  private async written(
    path: string,
    write: (unfinished: string, target: string) => Promise<void>,
  ): Promise<void> {
    const target = this.local(path)
    const folder = dirname(target)
    const unfinished = join(folder, `${UNFINISHED}${process.pid}-${randomBytes(6).toString('hex')}`)
    try {
      await this.makeFolder(folder)
      await write(unfinished, target)
      await syncFolder(folder)
    } catch (thrown) {
      await rm(unfinished, { force: true }).catch(() => {}) // why it failed is told
      // Somebody may have taken the folder away.
      this.made.clear()
      throw this.failure(thrown)
    }
  }

  private async makeFolder(folder: string): Promise<void> {
    if (this.made.has(folder)) return
    const first = await mkdir(folder, { recursive: true })
    // Each new folder is an entry of the one above.
    if (first)
      for (let at = folder; at.length >= first.length; at = dirname(at)) await syncFolder(dirname(at))
    this.made.add(folder)
  }

  private failure(thrown: unknown): Failure {
    if (thrown instanceof Failure) return thrown
    const { code, message } = thrown as NodeJS.ErrnoException
    if (code === 'ENOSPC' || code === 'EDQUOT')
      return new Failure(
        'transient',
        `There is no room left for ${this.where}.`,
        'Free space on its disk; it is tried again by itself.',
        thrown,
      )
    if (code === 'EACCES' || code === 'EPERM' || code === 'EROFS')
      return new Failure(
        'structural',
        `${this.where} may not be written or read: ${message}`,
        'Give this user the right to, or choose another folder.',
        thrown,
      )
    if (code === 'EIO' || code === 'ENOENT' || code === 'ESTALE')
      return new Failure(
        'transient',
        `${this.where}: ${message}`,
        'Is its disk there? It is tried again by itself.',
        thrown,
      )
    return faultOf(thrown, this.where)
  }
}

async function writeSynced(path: string, body: Uint8Array): Promise<void> {
  const file = await open(path, 'wx')
  try {
    await file.writeFile(body)
    await file.sync()
  } finally {
    await file.close()
  }
}

async function syncFolder(folder: string): Promise<void> {
  const opened = await open(folder, 'r')
  try {
    await opened.sync()
  } finally {
    await opened.close()
  }
}

const byBytes = (a: string, b: string) => Buffer.compare(Buffer.from(a), Buffer.from(b))

function isAbsent(thrown: unknown): boolean {
  const { code } = thrown as NodeJS.ErrnoException
  return code === 'ENOENT' || code === 'ENOTDIR'
}
