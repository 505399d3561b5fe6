/**
 * Calls that are about to be made, in a file beside the one of what was sent: a line is on the disk before its call leaves. Of those that are over the
 * other file tells.
 */
import { open, readFile, type FileHandle } from 'node:fs/promises'
import { dirname } from 'node:path'
import type { SentCall } from '../contract/sent.ts'

type Line = { begins: SentCall } | { forgets: string }

interface Wanted {
  text: string
  done(thrown?: unknown): void
}

export class Intents {
  private readonly path: string
  private file: FileHandle | undefined
  private wanted: Wanted[] = []
  private writing: Promise<void> | undefined

  constructor(path: string) {
    this.path = path
  }

  /** Without those that were forgotten; the oldest first. */
  async begun(): Promise<SentCall[]> {
    const text = await readFile(this.path, 'utf8').catch((thrown: NodeJS.ErrnoException) => {
      if (thrown.code === 'ENOENT') return ''
      throw thrown
    })
    const calls = new Map<string, SentCall>()
    // Behind the last end of a line stands what was cut off: its call has never left.
    for (const line of text.split('\n').slice(0, -1)) {
      const read = JSON.parse(line) as Line
      if ('begins' in read) calls.set(read.begins.once, read.begins)
      else calls.delete(read.forgets)
    }
    return [...calls.values()]
  }

  begin(call: SentCall): Promise<void> {
    return this.append({ begins: call })
  }

  forget(once: string): Promise<void> {
    return this.append({ forgets: once })
  }

  /** None is under way. */
  async clear(): Promise<void> {
    await this.writing
    const file = await this.opened()
    await file.truncate(0)
    await file.datasync()
  }

  async close(): Promise<void> {
    await this.writing
    await this.file?.close()
    this.file = undefined
  }

  /** With what others want to be written by then: calls that are under way at once wait for one disk. */
  private append(line: Line): Promise<void> {
    return new Promise((resolve, reject) => {
      const done = (thrown?: unknown) => (thrown === undefined ? resolve() : reject(thrown as Error))
      this.wanted.push({ text: `${JSON.stringify(line)}\n`, done })
      this.writing ??= this.write().finally(() => (this.writing = undefined))
    })
  }

  private async write(): Promise<void> {
    while (this.wanted.length > 0) {
      const wanted = this.wanted
      this.wanted = []
      try {
        const file = await this.opened()
        await file.appendFile(wanted.map(({ text }) => text).join(''))
        await file.datasync()
        for (const { done } of wanted) done()
      } catch (thrown) {
        for (const { done } of wanted) done(thrown)
      }
    }
  }

  private async opened(): Promise<FileHandle> {
    if (this.file) return this.file
    const file = await open(this.path, 'a', 0o600)
    // That there is such a file is on the disk, too.
    const folder = await open(dirname(this.path), 'r')
    await folder.sync().finally(() => folder.close())
    return (this.file = file)
  }
}
