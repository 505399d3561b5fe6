import { expect, test } from '@jest/globals'
import { whereTo } from '../src/pipelines/rewind/whereTo.ts'

const now = new Date('2026-03-01T12:00:00').getTime()
const at = (text: string, kind?: string) => whereTo(text, kind, now).map(({ to }) => to)
const time = (local: string) => [{ time: new Date(local).toISOString() }]

test('a clock is of today, or of yesterday where that is still to come; a date is by the clock here, or by its zone', () => {
  expect(at('11:59')).toEqual(time('2026-03-01T11:59:00'))
  expect(at(' 12:00:01 ')).toEqual(time('2026-02-28T12:00:01'))
  expect(at('2026-02-27 08:30')).toEqual(time('2026-02-27T08:30:00'))
  expect(at('2026-02-27')).toEqual(time('2026-02-27T00:00:00'))
  expect(at('2026-02-27T08:30:00Z')).toEqual([{ time: '2026-02-27T08:30:00.000Z' }])
  expect(at('2026-02-27 08:30:00+02:00')).toEqual([{ time: '2026-02-27T06:30:00.000Z' }])
  for (const wrong of ['', '24:00', '12:60', 'before the war', '2026-02-31x']) expect(at(wrong)).toEqual([])
})

test('positions are those of the source’s kind that stand in the text', () => {
  expect(at('Changes are captured from 0/16B3748 on.', 'postgres log')).toEqual([{ position: '0/16B3748' }])
  expect(at('0/16B3748 and 1/0', 'postgres log')).toEqual([{ position: '0/16B3748' }, { position: '1/0' }])
  expect(at('0/16B3748')).toEqual([])
  expect(at('0/16B3748', 'binlog')).toEqual([])
})
