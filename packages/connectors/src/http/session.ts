/** A connection to an app: its objects are looked at like tables. */
import type { AppObject } from '@tide/core/app/object'
import type { Dataset, DatasetName } from '@tide/core/records/dataset'
import { Failure } from '@tide/core/failure'
import type { QueryLimits, Session } from '../contract/session.ts'
import { Answer } from '../question/answer.ts'
import { tooLong } from '../question/refusal.ts'
import type { DescribedApp } from './app.ts'

export function appSession(app: DescribedApp): Session {
  const namespace = app.name.toLowerCase()
  const within = <T>(limits: QueryLimits, work: (signal: AbortSignal) => Promise<T>): Promise<T> => {
    const late = AbortSignal.timeout(limits.timeoutMs)
    return work(AbortSignal.any([limits.signal, late])).catch((thrown: unknown) => {
      throw late.aborted ? tooLong(limits) : thrown
    })
  }
  const fieldsOf = async ({ name }: DatasetName) => (await objectOf(app, name)).fields
  return {
    app,
    catalogue: async () => ({
      schemas: [namespace],
      datasets: (await app.objects()).map(object => datasetOf(namespace, object)),
    }),
    preview: (table, limits) =>
      within(limits, async signal => {
        const fields = await fieldsOf(table)
        const answer = new Answer(limits)
        for await (const page of app.list(table.name, { most: limits.maxRows + 1, signal })) {
          for (const record of page) answer.add(fields.map(({ name }) => record[name] ?? null))
          if (answer.full) break
        }
        return answer.grid(fields.map(({ name, nativeType }) => ({ name, type: nativeType })))
      }),
    count: (table, limits) =>
      within(limits, async signal => {
        const total = await app.total(table.name, signal)
        if (total !== undefined) return total
        let rows = 0
        for await (const page of app.list(table.name, { signal })) rows += page.length
        return rows
      }),
    row: async ({ dataset, columns }, key) => {
      if (key === null) return null
      const record = await app.read(dataset.name, key[0] ?? '', new AbortController().signal)
      return record ? columns.map(({ name }) => record[name] ?? null) : null
    },
    close: async () => {},
  }
}

/** Throws a Failure for one that there is not. */
export async function objectOf(app: DescribedApp, name: string): Promise<AppObject> {
  const objects = await app.objects()
  const found = objects.find(one => one.name === name)
  if (found) return found
  throw new Failure(
    'refused',
    `${app.name} has no object “${name}”.`,
    `It has ${objects.map(one => one.name).join(', ')}.`,
  )
}

function datasetOf(namespace: string, { name, fields, key }: AppObject): Dataset {
  return {
    namespace,
    name,
    kind: 'table',
    fields: fields.map(({ name, type, nativeType, required, readOnly }) => ({
      name,
      type,
      nativeType,
      nullable: !required,
      ...(readOnly ? { computed: true } : {}),
    })),
    key: [key],
    notFollowed: 'records of apps are not followed yet; they are sent to',
    rows: 0,
    rowsExact: false,
    bytes: 0,
  }
}
