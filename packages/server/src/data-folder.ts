import { randomBytes } from 'node:crypto'
import { chmod, lstat, mkdir, readdir, readFile, rename, writeFile } from 'node:fs/promises'
import { hostname } from 'node:os'
import { join } from 'node:path'
import { lockFolder } from './folder-lock.ts'

/** The folder of one process: its journals, and the embedded store where there is no other. */
export interface DataFolder {
  folder: string
  /** What its process is called among the engines that share a store. */
  name: string
  /** An id that stays with the folder wherever it is moved. */
  home: string
  unlock(): Promise<void>
}

/** Takes the folder for this process; makes what is not there yet. */
export async function openDataFolder(folder: string, name = hostname()): Promise<DataFolder> {
  const unlock = await lockFolder(folder)
  await tighten(folder) // what earlier versions have made
  return { folder, name, home: await homeOf(folder), unlock }
}

async function tighten(path: string): Promise<void> {
  const there = await lstat(path)
  if (there.isSymbolicLink()) return
  if ((there.mode & 0o077) !== 0) await chmod(path, there.mode & 0o700)
  if (!there.isDirectory()) return
  for (const name of await readdir(path)) await tighten(join(path, name)).catch(() => {}) // it may be gone by now
}

async function homeOf(folder: string): Promise<string> {
  const file = join(folder, 'home.id')
  const known = await readFile(file, 'utf8').catch(() => '')
  if (known.trim() !== '') return known.trim()
  const home = randomBytes(8).toString('hex')
  await mkdir(folder, { recursive: true })
  await writeFile(`${file}.new`, `${home}\n`)
  await rename(`${file}.new`, file)
  return home
}
