import { expect, test } from '@jest/globals'
import { DeletionGuard } from '@tide/core/apply/deletion-guard'
import fc from 'fast-check'

const TEN_MINUTES = 600_000

test('rows that go within ten minutes count together, in whatever landings; what was let through counts on', () => {
  fc.assert(
    fc.property(
      fc.integer({ min: 1, max: 99 }),
      fc.integer({ min: 1, max: 400 }),
      fc.array(
        fc.record({ rows: fc.integer({ min: -20, max: 60 }), wait: fc.integer({ min: 0, max: 400_000 }) }),
        { maxLength: 30 },
      ),
      (percent, size, landings) => {
        let [now, there] = [1_000, size]
        const guard = new DeletionGuard(percent, () => now)
        const gone: { at: number; rows: number; of: number }[] = []
        for (const { rows: asked, wait } of landings) {
          now += wait
          const rows = Math.min(asked, there)
          const loss = [{ lane: 0, table: 't', rows, there }]
          const lately = gone.filter(({ at }) => at > now - TEN_MINUTES)
          const of = Math.max(there, lately[0]?.of ?? 0)
          const all = rows + lately.reduce((sum, one) => sum + one.rows, 0)
          const asks = rows > 0 && of >= 100 && all / of > percent / 100
          if (asks) {
            expect(() => guard.refuse(loss)).toThrow('are to be deleted')
            guard.allow()
          }
          guard.refuse(loss)
          guard.landed(loss)
          if (rows > 0) gone.push({ at: now, rows, of: there })
          there -= rows
        }
      },
    ),
  )
})

test('each lane is asked about by itself, and one of which nothing is known is not', () => {
  const guard = new DeletionGuard(50, () => 0)
  const loss = (lane: number, rows: number, there: number | null) => ({
    lane,
    table: `t${lane}`,
    rows,
    there,
  })
  guard.refuse([loss(0, 50, 100), loss(1, 1_000, null), loss(2, 99, 99)])
  expect(() => guard.refuse([loss(0, 10, 100), loss(3, 101, 200)])).toThrow('101 of the 200 rows of t3')
  new DeletionGuard(100, () => 0).refuse([loss(0, 100, 100)])
})
