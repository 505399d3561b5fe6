/** Processes that keep two places in step, one after another, each until it is killed. */
import { fork, type ChildProcess } from 'node:child_process'
import { once } from 'node:events'

/** What each is told of where it works. */
export interface SyncerWorld {
  world: 'apps' | 'tables' | 'sheets'
  folder: string
  /** The settings of both connections. */
  connections: { a: object; b: object }
}

export class Syncers {
  private readonly world: SyncerWorld
  private readonly children = new Set<ChildProcess>()

  constructor(world: SyncerWorld) {
    this.world = world
  }

  /** `throughOnce`: it ends when nothing is left to do. */
  async begin(throughOnce: boolean): Promise<ChildProcess> {
    const said = JSON.stringify({ ...this.world, once: throughOnce })
    const child = fork(new URL('./syncer.ts', import.meta.url), [said], {
      execArgv: ['--import', 'tsx', '--no-warnings'],
      stdio: ['ignore', 'ignore', 'inherit', 'ipc'],
    })
    this.children.add(child)
    child.once('exit', () => this.children.delete(child))
    await Promise.race([once(child, 'message'), once(child, 'exit')])
    return child
  }

  async kill(child: ChildProcess): Promise<void> {
    child.kill('SIGKILL')
    if (this.children.has(child)) await once(child, 'exit')
  }

  /** Resolves when it has said so, or has ended. */
  async said(child: ChildProcess, word: string): Promise<void> {
    const told = new Promise<void>(resolve => child.on('message', said => said === word && resolve()))
    if (this.children.has(child)) await Promise.race([told, once(child, 'exit')])
  }

  end(): void {
    for (const child of this.children) child.kill('SIGKILL')
  }
}
