/** RFC 9457 problem details with a remedy. */
export interface Problem {
  type: string
  title: string
  status: number
  detail: string
  remedy: string
}
