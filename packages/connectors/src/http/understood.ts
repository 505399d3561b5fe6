/** What an app answers is held against how it was described. */
import { Failure } from '@tide/core/failure'
import { NotDone } from '../contract/app.ts'
import { saidIn, type Answer } from './caller.ts'
import { at, textOf } from './values.ts'

type Said = Pick<Answer, 'status' | 'body'>

export class Understood {
  private readonly app: string

  constructor(app: string) {
    this.app = app
  }

  /** What stands at the pointer in an answer; throws for what was refused as a whole. */
  at({ status, body }: Said, what: string, pointer: string): unknown {
    if (status < 300) return at(body, pointer)
    throw this.refused({ status, body }, what)
  }

  refused({ status, body }: Said, what: string): NotDone {
    return new NotDone(
      `${this.app} refused ${what} (${status}): ${saidIn(body)}`,
      'See that it is there and that the account may do that; or correct the description.',
    )
  }

  /** `where`: in the description. */
  list(answer: Said, what: string, pointer = '', where: string): unknown[] {
    const list = this.at(answer, what, pointer)
    if (Array.isArray(list)) return list
    throw this.otherwise(what, where)
  }

  name(value: unknown, what: string, where: string, longest: number): string {
    const name = textOf(value)
    if (name !== null && name !== '' && name.length <= longest) return name
    throw this.otherwise(`${what} without a key`, where)
  }

  otherwise(what: string, where: string): Failure {
    return new Failure(
      'structural',
      `${this.app} answered with ${what}, in another form than described.`,
      `Correct “${where}” in the description.`,
    )
  }
}
