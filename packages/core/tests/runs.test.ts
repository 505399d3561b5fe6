import { describe, expect, test } from '@jest/globals'
import { beginRun, withBatch } from '@tide/core/definition/run'
import { movedBetween, type LaneReading } from '@tide/core/pace/lane-reading'
import { csvRows } from '@tide/core/records/csv-rows'
import { runColumns, runsCsv } from '@tide/core/runs/table'
import fc from 'fast-check'

const at = (second: number) => new Date(Date.UTC(2026, 4, 2, 6, 0, second)).toISOString()
const batch = (rows: number, beganAt = at(0)) => ({
  ...{ rows, bytes: 10 * rows, inserted: rows, updated: 0, deleted: 0, truncated: 0, beganAt },
})

describe('runs', () => {
  test('batches add up by table and mode', () => {
    let run = beginRun({ id: 'r', pipeline: 'p', kind: 'copy', from: 'a', to: 'b' }, at(0))
    run = withBatch(run, 'beds', 'full', batch(3, at(1)), at(2))
    run = withBatch(run, 'visits', 'full', batch(5, at(2)), at(4))
    run = withBatch(run, 'beds', 'full', batch(4, at(3)), at(9))
    expect([run.rows, run.bytes]).toEqual([12, 120])
    expect(
      run.lanes.map(({ table, rows, batches, startedAt, endedAt }) => [
        table,
        rows,
        batches,
        startedAt,
        endedAt,
      ]),
    ).toEqual([
      ['beds', 7, 2, at(1), at(9)],
      ['visits', 5, 1, at(2), at(4)],
    ])
  })

  test('as a table: a line for each lane, by its own time when it was copied, and for a run without any', () => {
    const copied = withBatch(
      beginRun({ id: 'r', pipeline: 'p', kind: 'copy', from: 'a', to: 'b' }, at(0)),
      'beds, "raised"',
      'full',
      batch(60, at(10)),
      at(40),
    )
    const idle = beginRun({ id: 's', pipeline: 'p', kind: 'rewind', from: 'a', to: 'b' }, at(50))
    const named = { pipelineName: 'Beds', origin: '' }
    const columns = runColumns(
      [
        { ...copied, ...named },
        { ...idle, ...named },
      ],
      Date.parse(at(50)),
    )
    const [names, first, second, ...more] = csvRows(Buffer.from(runsCsv(columns)))
    const value = (row: readonly (string | null | undefined)[] | undefined, name: string) =>
      row![names!.indexOf(name)]
    expect(more).toEqual([])
    expect(
      ['table', 'seconds', 'rows_per_minute', 'gb_per_hour', 'origin'].map(name => value(first, name)),
    ).toEqual(['beds, "raised"', '30', '120', '0.000072', null])
    expect(
      ['kind', 'state', 'started_at', 'ended_at', 'table', 'rows_per_minute'].map(name =>
        value(second, name),
      ),
    ).toEqual(['rewind', 'going', at(50), null, null, null])
  })
})

test('what has landed between readings adds up, however often it began anew', () => {
  const reading = (n: number, inserted: number): LaneReading => ({
    ...{ table: 'beds', at: n, inserted, updated: 0, deleted: 0, truncated: 0, bytes: 8 * inserted },
  })
  fc.assert(
    fc.property(
      fc.array(fc.array(fc.nat(9), { minLength: 1, maxLength: 5 }), { minLength: 1, maxLength: 4 }),
      lives => {
        const readings: LaneReading[] = []
        let [landed, at] = [0, 0]
        for (const [i, steps] of lives.entries()) {
          let total = 0
          // Each life but the first begins below where the one before ended, or that cannot be seen.
          const before = readings.at(-1)?.inserted ?? 0
          const first = i === 0 ? steps[0]! : Math.min(steps[0]!, before - 1)
          if (first < 0) continue
          for (const step of [first, ...steps.slice(1)]) {
            total += step
            if (readings.length > 0) landed += step
            readings.push(reading(at++, total))
          }
        }
        const moved = movedBetween(readings)
        expect([moved.inserted, moved.bytes]).toEqual([landed, 8 * landed])
      },
    ),
  )
  expect(movedBetween([])).toMatchObject({ inserted: 0 })
})
