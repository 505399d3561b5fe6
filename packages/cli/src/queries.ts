/** Saved queries that a team keeps as files with its code. */
import type { SavedQueryInfo } from '@tide/core/api/queries'
import type { ConnectionInfo } from '@tide/core/api/connections'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import { readQueryFile, type QueryFile } from '@tide/core/definition/query-file'
import { Failure } from '@tide/core/failure'
import { readdir, readFile } from 'node:fs/promises'
import { join } from 'node:path'
import type { Server } from './server.ts'

const ENDING = '.sql'

/** All of a folder become saved queries of their files' names; says of each what became of it. */
export async function takeInQueries(server: Server, folder: string): Promise<string[]> {
  const files = (await readdir(folder)).filter(name => name.endsWith(ENDING)).sort()
  // Whatever one of them lacks is known before the first is taken in.
  const read: QueryFile[] = []
  for (const file of files)
    read.push(readQueryFile(file.slice(0, -ENDING.length), await readFile(join(folder, file), 'utf8')))
  const connections = await server.call<ConnectionInfo[]>('GET', '/connections')
  const idOf = ({ name, connection }: QueryFile) => {
    const found = connections.find(one => one.name === connection)
    if (found) return found.id
    throw new Failure(
      'refused',
      `${name}${ENDING}: there is no connection “${connection}”.`,
      'Name one that is there, or make it first.',
    )
  }
  const wanted = read.map(file => ({ ...file, connection: idOf(file) }))
  const there = await server.call<SavedQueryInfo[]>('GET', '/queries')
  const said: string[] = []
  for (const query of wanted) {
    const present = there.find(({ name }) => name === query.name)
    const same =
      present &&
      present.sql === query.sql &&
      present.connection === query.connection &&
      JSON.stringify(present.key) === JSON.stringify(query.key) &&
      canonicalJson(present.parameters) === canonicalJson(query.parameters)
    if (!same)
      await server.call(present ? 'PUT' : 'POST', present ? `/queries/${present.id}` : '/queries', query)
    said.push(`“${query.name}” ${same ? 'is so already' : present ? 'is changed' : 'is new'}.`)
  }
  const others = there.filter(({ name }) => !wanted.some(query => query.name === name))
  for (const { name } of others) said.push(`“${name}” is there, and in no file.`)
  return said
}
