import { benchCopy } from './copy-pg.ts'

await benchCopy('copy-pg-duckdb', 'duckdb')
