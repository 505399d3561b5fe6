import { Failure, messageOf } from '@tide/core/failure'
import type { CheckItem } from '@tide/core/api/browse'
import { existsSync } from 'node:fs'
import { mkdir } from 'node:fs/promises'
import { dirname, resolve } from 'node:path'
import type { Config, Connector, Session } from '../contract/session.ts'
import { fileIdentity } from '../duckdb/file.ts'
import { probeFolder } from '../folder-probe.ts'
import { lakeSession } from '../lake/session.ts'
import { typesOf, typesProperty } from '../lake/files/types-setting.ts'
import { FolderStore } from './folder-store.ts'

const WRITABLE_REMEDY = 'Give this user the right to write there, or choose another folder.'

const configSchema = {
  type: 'object',
  required: ['path'],
  additionalProperties: false,
  properties: {
    path: {
      type: 'string',
      title: 'Folder',
      description: 'Absolute path; it is made when it is not there.',
      pattern: '^/.+',
    },
    types: typesProperty,
  },
}

const pathOf = (config: Config) => resolve((config as { path: string }).path)

async function open(config: Config): Promise<Session> {
  const path = pathOf(config)
  await probeFolder(path, WRITABLE_REMEDY)
  await mkdir(path, { recursive: true })
  return lakeSession(new FolderStore(path), [path], typesOf(config))
}

/** Makes nothing: of a folder that is not there, only whether it could be made is looked at. */
async function* check(config: Config): AsyncGenerator<CheckItem> {
  const path = pathOf(config)
  const what = 'Write into the folder'
  try {
    if (!existsSync(path)) {
      let above = dirname(path)
      while (!existsSync(above)) above = dirname(above)
      await probeFolder(above, WRITABLE_REMEDY)
      yield { what, result: 'ok', found: `${path} is not there yet; it is made when it is first used.` }
      return
    }
    const session = await open(config)
    try {
      yield { what, result: 'ok', found: path }
      const { datasets } = await session.catalogue()
      yield { what: 'Read the catalogue', result: 'ok', found: `${datasets.length} tables` }
    } finally {
      await session.close()
    }
  } catch (thrown) {
    const remedy = thrown instanceof Failure ? thrown.remedy : WRITABLE_REMEDY
    yield { what, result: 'failed', found: messageOf(thrown), remedy }
  }
}

export const folder: Connector = {
  kind: 'folder',
  title: 'Folder of files',
  summary:
    'A folder of this machine: change files and merged tables in open formats, or files that others put there.',
  band: 'files',
  roles: ['source', 'target'],
  configSchema,
  questionsAtOnce: 1,
  placeSettings: [],
  fixedWhileFollowed: [],
  identity: config => fileIdentity(pathOf(config)),
  address: pathOf,
  check,
  open,
}
