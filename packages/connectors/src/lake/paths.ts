/** Every path within a lake is made here. */
import type { DatasetName } from '@tide/core/records/dataset'

/** What is ours beside the tables: the commits of each pipeline. */
const STATE = '_constant_tide'

const SEQUENCE_DIGITS = 12

/** A name as part of a path: what is no letter, digit, `_` or `-` is written as its bytes, `%20`. */
function encoded(name: string): string {
  return [...Buffer.from(name)]
    .map(byte => {
      const letter = String.fromCharCode(byte)
      return /[\w-]/.test(letter) ? letter : `%${byte.toString(16).toUpperCase().padStart(2, '0')}`
    })
    .join('')
}

export function tableFolder({ namespace, name }: DatasetName): string {
  return `${encoded(namespace)}.${encoded(name)}`
}

/** Undefined for a folder that no table of ours has. */
export function tableOf(folder: string): DatasetName | undefined {
  const [, namespace, name] = /^((?:[\w-]|%[0-9A-F]{2})+)\.((?:[\w-]|%[0-9A-F]{2})+)$/.exec(folder) ?? []
  if (namespace === undefined || name === undefined) return undefined
  try {
    return { namespace: decodeURIComponent(namespace), name: decodeURIComponent(name) }
  } catch {
    return undefined // bytes that are no UTF-8
  }
}

/** A folder that one of our tables lies in. */
export async function isLakeFolder(
  store: { folders(folder: string): Promise<string[]> },
  folder: string,
): Promise<boolean> {
  if (tableOf(folder) === undefined) return false
  return (await store.folders(`${folder}/`)).some(name => name === 'manifest' || name === 'metadata')
}

/** Of what types the columns of followed files were found to be. */
export const TYPES_PATH = `${STATE}/reading/types.json`

/** How many lines of files somebody has told. */
export const linesPath = (reader: string, what: string) => `${STATE}/reading/${encoded(reader)}-${what}.json`

const padded = (sequence: number) => String(sequence).padStart(SEQUENCE_DIGITS, '0')

export const commitsFolder = (pipeline: string) => `${STATE}/${encoded(pipeline)}/`
export const commitPath = (pipeline: string, sequence: number) =>
  `${commitsFolder(pipeline)}${padded(sequence)}.json`
export const manifestFolder = (folder: string) => `${folder}/manifest/`
export const manifestPath = (folder: string, sequence: number) =>
  `${manifestFolder(folder)}${padded(sequence)}.json`
export const schemaPath = (folder: string, id: number) => `${folder}/schema/${id}.json`
export const dataFolder = (folder: string) => `${folder}/data/`

/** `within`: folders below that of the data, or nothing. */
export function dataPath(folder: string, within: string, sequence: number, id: string, end: string): string {
  return `${dataFolder(folder)}${within === '' ? '' : `${within}/`}${padded(sequence)}-${id}.${end}`
}

export const metadataFolder = (folder: string) => `${folder}/metadata/`
export const metadataPath = (folder: string, version: number) =>
  `${folder}/metadata/v${version}.metadata.json`
export const hintPath = (folder: string) => `${folder}/metadata/version-hint.text`

/** The number that a path of any of these kinds ends with; undefined: it is none of them. */
export function sequenceOf(path: string): number | undefined {
  const [, digits] = /(?:^|\/)(\d{12})(?:-[\w-]+)?\.[\w.]+$/.exec(path) ?? []
  return digits === undefined ? undefined : Number(digits)
}
