/** What expressions compute with: types, and how values of columns become theirs and go back. */
import type { LogicalType } from '../records/types.ts'
import { parseDecimal, printDecimal, type Decimal } from './decimal.ts'
import { parseMoment, printDate, printMoment, type Moment } from './moments.ts'

/** `scale`: digits after the point at most, where that is known. */
export type Kind = 'bool' | 'int' | 'decimal' | 'double' | 'string' | 'timestamp' | 'local timestamp' | 'date'

export interface ExpressionType {
  kind: Kind
  scale?: number
}

/** By kind: boolean, bigint, Decimal, number, string, Moment. */
export type Known = boolean | bigint | Decimal | number | string | Moment

/** A row for which an expression has no value. */
export class NoValue extends Error {}

/** Most digits that a computed decimal is given at the target. */
const DECIMAL_DIGITS = 38

/** Undefined for columns that expressions do not know yet, such as lists. */
export function expressionType(type: LogicalType): ExpressionType | undefined {
  switch (type.kind) {
    case 'bool':
    case 'int':
    case 'date':
      return { kind: type.kind }
    case 'decimal':
      return {
        kind: 'decimal',
        ...(type.precision === undefined ? {} : { scale: Math.max(0, type.scale ?? 0) }),
      }
    case 'float':
      return { kind: 'double' }
    case 'utf8':
    case 'uuid':
    case 'json':
    case 'time':
      return { kind: 'string' }
    case 'timestamp':
      return { kind: type.zoned ? 'timestamp' : 'local timestamp' }
    default:
      return undefined
  }
}

/** The type of a column that holds the results. */
export function logicalType({ kind, scale }: ExpressionType): LogicalType {
  switch (kind) {
    case 'bool':
    case 'date':
      return { kind }
    case 'int':
      return { kind: 'int', bits: 64, signed: true }
    case 'decimal':
      return scale === undefined || scale > DECIMAL_DIGITS
        ? { kind: 'decimal' }
        : { kind: 'decimal', precision: DECIMAL_DIGITS, scale }
    case 'double':
      return { kind: 'float', bits: 64 }
    case 'string':
      return { kind: 'utf8' }
    case 'timestamp':
      return { kind: 'timestamp', zoned: true }
    case 'local timestamp':
      return { kind: 'timestamp', zoned: false }
  }
}

/** From canonical text. Throws NoValue for what expressions do not know, such as infinite dates. */
export function reader({ kind }: ExpressionType): (text: string) => Known {
  const known =
    <T extends Known>(parse: (text: string) => T | undefined) =>
    (text: string): T => {
      const value = parse(text)
      if (value === undefined) throw new NoValue(`“${text.slice(0, 60)}” is nothing to compute with`)
      return value
    }
  switch (kind) {
    case 'bool':
      return text => text === 't' || text === 'true'
    case 'int':
      return text => BigInt(text)
    case 'decimal':
      return known(parseDecimal)
    case 'double':
      return text => Number(text)
    case 'string':
      return text => text
    default:
      return known(parseMoment)
  }
}

/** To canonical text. */
export function printer({ kind }: ExpressionType): (value: Known) => string {
  switch (kind) {
    case 'bool':
      return value => (value === true ? 't' : 'f')
    case 'decimal':
      return value => printDecimal(value as Decimal)
    case 'date':
      return value => printDate(value as Moment)
    case 'timestamp':
      return value => printMoment(value as Moment, true)
    case 'local timestamp':
      return value => printMoment(value as Moment, false)
    default:
      return String
  }
}

/** In words: “whole number”. */
export function printKind(kind: Kind): string {
  const words: Record<Kind, string> = {
    bool: 'true or false',
    int: 'a whole number',
    decimal: 'a decimal number',
    double: 'a double',
    string: 'a text',
    timestamp: 'a timestamp',
    'local timestamp': 'a timestamp without zone',
    date: 'a date',
  }
  return words[kind]
}
