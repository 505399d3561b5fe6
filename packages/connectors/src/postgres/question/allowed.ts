/** Whether a parsed statement can do nothing but ask. */
import { notAQuestion, severalStatements } from '../../question/refusal.ts'
import { FUNCTIONS } from './functions.ts'

/** Node kinds that a question is made of. */
const NODES = new Set(
  `SelectStmt ResTarget ColumnRef A_Star String Integer Float Boolean BitString A_Const A_Expr BoolExpr NullTest BooleanTest
   SubLink CaseExpr CaseWhen CoalesceExpr MinMaxExpr FuncCall TypeCast TypeName A_ArrayExpr A_Indirection A_Indices RowExpr
   RangeVar RangeSubselect RangeFunction RangeTableSample RangeTableFunc RangeTableFuncCol JoinExpr Alias SortBy WindowDef
   WithClause CommonTableExpr CTESearchClause CTECycleClause GroupingSet GroupingFunc CollateClause SQLValueFunction XmlExpr
   XmlSerialize NamedArgExpr List JsonObjectConstructor JsonArrayConstructor JsonArrayQueryConstructor JsonKeyValue
   JsonValueExpr JsonFormat JsonOutput JsonReturning JsonAggConstructor JsonObjectAgg JsonArrayAgg JsonIsPredicate
   JsonFuncExpr JsonBehavior`.split(/\s+/),
)

/** What parts of a question that are none are called by people. */
const CALLED: Readonly<Record<string, string>> = {
  LockingClause: 'FOR UPDATE or FOR SHARE',
  IntoClause: 'SELECT … INTO',
  ParamRef: 'A parameter such as $1',
  CallStmt: 'CALL',
  VariableSetStmt: 'SET',
}

const EXPLAINS_BY = new Set(['verbose', 'costs', 'format', 'settings', 'summary', 'generic_plan'])

interface Fields {
  [name: string]: unknown
}

export interface Question {
  /** `cursor`: its rows can be fetched as many as are wanted; the others give few. */
  by: 'cursor' | 'itself'
}

/** Throws, naming it, when a part of the statement is not known to be harmless. `tree`: see `parse`. */
export function questionIn(tree: unknown): Question {
  const { stmts = [] } = tree as { stmts?: { stmt: Fields }[] }
  if (stmts.length !== 1) throw severalStatements(stmts.length)
  const [[kind, fields] = ['', {}]] = Object.entries(stmts[0]!.stmt) as [string, Fields][]
  if (kind === 'SelectStmt') {
    refuseOthers(stmts[0]!.stmt)
    return { by: 'cursor' }
  }
  if (kind === 'VariableShowStmt') return { by: 'itself' }
  if (kind !== 'ExplainStmt') throw notAQuestion(called(kind))
  const { query, options } = fields as { query: Fields; options?: { DefElem: { defname: string } }[] }
  const other = options?.find(({ DefElem }) => !EXPLAINS_BY.has(DefElem.defname))
  if (other) throw notAQuestion(`EXPLAIN ${other.DefElem.defname.toUpperCase()}`)
  if (!('SelectStmt' in query)) throw notAQuestion(`EXPLAIN of ${called(Object.keys(query)[0]!)}`)
  refuseOthers(query)
  return { by: 'itself' }
}

function refuseOthers(root: Fields): void {
  // Not by calling itself: a long sum is a deep tree.
  const left: unknown[] = [root]
  while (left.length > 0) {
    const next = left.pop()
    if (Array.isArray(next)) left.push(...(next as unknown[]))
    else if (next !== null && typeof next === 'object') {
      for (const [name, value] of Object.entries(next)) {
        if (/^[A-Z]/.test(name)) refuseNode(name, value as Fields)
        else if (name === 'intoClause') throw notAQuestion(CALLED.IntoClause!)
        left.push(value)
      }
    }
  }
}

function refuseNode(kind: string, fields: Fields): void {
  if (!NODES.has(kind)) throw notAQuestion(called(kind))
  if (kind === 'FuncCall') refuseFunction(namesIn(fields.funcname))
  if (kind !== 'A_Expr') return
  const names = namesIn(fields.name)
  if (names.length > 1 && names[0] !== 'pg_catalog') throw notAQuestion(`The operator ${names.join('.')}`)
}

function refuseFunction(names: string[]): void {
  const own = names.length === 1 || (names.length === 2 && names[0] === 'pg_catalog')
  if (!own || !FUNCTIONS.has(names.at(-1)!)) throw notAQuestion(`The function ${names.join('.')}()`)
}

function namesIn(list: unknown): string[] {
  return (list as { String: { sval?: string } }[]).map(({ String: { sval } }) => sval ?? '')
}

/** `DropStmt` as `DROP`. */
function called(kind: string): string {
  return (
    CALLED[kind] ??
    kind
      .replace(/Stmt$/, '')
      .replace(/(?<=[a-z])(?=[A-Z])/g, ' ')
      .toUpperCase()
  )
}
