import { STATE_DATABASE } from '../catalogue.ts'
import type { Session } from '../client.ts'

let stages = 0

/** The temporary tables of one transaction. MariaDB drops none at its end, so they are dropped after it. */
export class Stages {
  private readonly session: Session
  private readonly names: string[] = []

  constructor(session: Session) {
    this.session = session
  }

  async make(columns: readonly string[]): Promise<string> {
    const name = `${STATE_DATABASE}.stage_${process.pid}_${stages++}`
    await this.session.run(
      `CREATE TEMPORARY TABLE ${name} (${columns.join(', ')}) ENGINE = InnoDB DEFAULT CHARACTER SET utf8mb4`,
    )
    this.names.push(name)
    return name
  }

  async drop(): Promise<void> {
    for (const name of this.names)
      await this.session.run(`DROP TEMPORARY TABLE IF EXISTS ${name}`).catch(() => {})
  }
}
