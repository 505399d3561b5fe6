import type { Definition } from '@tide/core/definition/definition'
import { Replicate } from './replicate/replicate.ts'
import type { Run, ShapeRun } from './shape.ts'

const SHAPES: Record<Definition['shape'], (run: Run) => ShapeRun> = {
  replicate: run => new Replicate(run),
}

export function shapeOf(run: Run): ShapeRun {
  return SHAPES[run.record.definition.shape](run)
}
