/** A journal that an earlier version has written is read, and written on. */
import { afterAll, beforeAll, expect, test } from '@jest/globals'
import { unpackRow } from '@tide/core/records/tuple'
import { cpSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { Journal } from '../src/journal.ts'
import { JournalReader } from '../src/reader.ts'

let folder: string
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), 'constant-tide-journal-'))
  cpSync(fileURLToPath(new URL('version-1', import.meta.url)), folder, { recursive: true })
})
afterAll(() => rmSync(folder, { recursive: true, force: true }))

test('the first version: transactions with their places, and who reads it', async () => {
  const journal = (await Journal.open(folder))!
  expect(journal.coveredTables).toEqual([{ namespace: 'public', name: 'beds' }])
  expect(journal.stops).toEqual([])
  expect(journal.facts().followers.map(({ id }) => id)).toEqual(['d91c4f62db', 'c7e283eef9'])
  const reader = new JournalReader(journal, journal.start.at, () => ({
    lane: 0,
    columns: [0, 1, 2],
    since: null,
  }))
  const { transactions } = await reader.read(100)
  await reader.close()
  const told = transactions.map(({ start, events }) => [
    start,
    events.map(event => [event.number, event.op, 'after' in event ? unpackRow(event.after) : null]),
  ])
  expect(told).toEqual([
    [
      '0/153A2D8',
      [
        [0, 'insert', ['21', 'new', '1.00']],
        [1, 'update', ['3', 'house 3', '2.50']],
        [2, 'delete', null],
      ],
    ],
    [
      '0/153A448',
      [
        [0, 'update', ['1', null, '1.00']],
        [1, 'update', ['2', null, '2.00']],
        [2, 'update', ['100', 'house 20', '20.00']],
      ],
    ],
  ])
  const { end } = journal
  await journal.cover([{ namespace: 'public', name: 'tools' }], { ...end, at: '0/FFFFFFF' })
  expect(journal.stops).toEqual(['0/FFFFFFF'])
  await journal.close()
})
