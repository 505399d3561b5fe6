/** Tables of a database as places: what an app says of its objects is said of them. */
import {
  datasetId,
  datasetOf,
  printName,
  type Dataset,
  type DatasetName,
  type Field,
} from '../records/dataset.ts'
import type { LogicalType } from '../records/types.ts'
import type { AppField, AppObject } from './object.ts'
import { plainName } from './plain-name.ts'

/** In which the version of a row comes, beside its columns; no column can have so long a name. */
export const ROW_VERSION = 'the version of the row, which is none of its columns, by all that stands in them'

/** What the account may do with a table; absent: it is not known. */
export interface TableRights {
  insert: boolean
  update: boolean
  delete: boolean
}

const PLAIN = /^[\p{L}_][\p{L}\p{N}_$]*$/u
const LABELS = ['name', 'title', 'label', 'summary', 'subject', 'job']

/** How a lane names a table: no two tables have one name. */
export function placeName(name: DatasetName): string {
  return PLAIN.test(name.namespace) && PLAIN.test(name.name) ? printName(name) : datasetId(name)
}

/** The inverse; undefined: it is none of a table. */
export function datasetOfPlace(name: string): DatasetName | undefined {
  if (name.startsWith('[')) return datasetOf(name)
  const [namespace, table, ...more] = name.split('.')
  return table !== undefined && more.length === 0 ? { namespace: namespace!, name: table } : undefined
}

/** `all`: those of the database, whose rows others may refer to. */
export function tableObject(
  dataset: Dataset,
  all: readonly Dataset[],
  rights: TableRights | undefined,
): AppObject {
  const [key] = dataset.key
  const isWhole = key !== undefined && dataset.key.length === 1 && dataset.kind === 'table'
  const fields = dataset.fields.filter(isTold).map(field => fieldOf(field, dataset, all))
  const label = fields.find(({ name, type }) => type.kind === 'utf8' && LABELS.includes(plainName(name)))
  const why = isWhole ? lackingRights(dataset, rights) : closedOf(dataset)
  const alone = all.filter(({ name }) => name === dataset.name).length === 1
  return {
    name: placeName(dataset),
    title: alone ? dataset.name : printName(dataset),
    key: isWhole ? key : '',
    label: label?.name ?? null,
    fields,
    can: {
      list: isWhole,
      read: isWhole,
      create: isWhole && (rights?.insert ?? true),
      change: isWhole && (rights?.update ?? true),
      remove: isWhole && (rights?.delete ?? true),
    },
    changed: null,
    created: null,
    version: ROW_VERSION,
    findBy: [],
    ...(why === undefined ? {} : { closed: why }),
  }
}

function closedOf({ kind, key, keyNote }: Dataset): string {
  if (kind === 'view') return 'A view takes no records; choose the table that it shows.'
  if (key.length > 1) return 'Its key has several columns; give it one of a single column that is never null.'
  return `Give it a primary key of one column.${keyNote === undefined ? '' : ` ${keyNote}`}`
}

function lackingRights(name: DatasetName, rights: TableRights | undefined): string | undefined {
  const missing = (['insert', 'update', 'delete'] as const).filter(right => rights?.[right] === false)
  if (missing.length === 0) return undefined
  const listed = missing.map(right => right.toUpperCase()).join(', ')
  return `Let an administrator grant ${listed} on ${printName(name)} to the account of the connection.`
}

/** Lists of anything but text have no form that an app would share, and some types have no text that could be read. */
function isTold({ type, notCaptured, computed }: Field): boolean {
  if (type.kind === 'other' && notCaptured !== undefined) return computed === true
  return type.kind !== 'list' || type.of.kind === 'utf8'
}

function fieldOf(field: Field, { refers = [], uniques = [] }: Dataset, all: readonly Dataset[]): AppField {
  const { name, type, nativeType, nullable, computed, preset } = field
  const referred = refers.find(({ columns }) => columns.length === 1 && columns[0] === name)
  const there = referred && all.find(one => datasetId(one) === datasetId(referred.to))
  return {
    name,
    title: name,
    type,
    nativeType,
    required: !nullable && !computed && preset === undefined,
    readOnly: computed === true || preset === 'always',
    choices: choicesOf(nativeType),
    maxLength: lengthOf(type, nativeType),
    unique: uniques.some(({ columns }) => columns.length === 1 && columns[0] === name),
    refers: there && there.key.length === 1 && there.key[0] === referred.by[0] ? placeName(there) : null,
    email: false,
  }
}

/** In characters. */
function lengthOf({ kind }: LogicalType, nativeType: string): number | null {
  const [, length] = /^(?:character varying|varchar|character|char)\((\d+)\)/i.exec(nativeType) ?? []
  return kind === 'utf8' && length !== undefined ? Number(length) : null
}

/** Of MariaDB's enum. */
function choicesOf(nativeType: string): string[] | null {
  const [, list] = /^enum\((.*)\)$/i.exec(nativeType) ?? []
  if (list === undefined) return null
  return [...list.matchAll(/'((?:[^']|'')*)'/g)].map(([, text]) => text!.replaceAll("''", "'"))
}
