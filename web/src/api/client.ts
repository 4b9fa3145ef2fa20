import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Interval = Schemas['IntervalView']
export type Account = Schemas['AccountView']
export type Listed = Schemas['ListedAccount']

export const api = createClient<paths>({ baseUrl: '/' })

/** What went wrong, as the server said it: problem details (RFC 9457). */
export class Problem extends Error {
  readonly status: number
  /** Messages by field path, without the leading "body.". */
  readonly fields: Record<string, string>

  constructor(status: number, detail: string, fields: Record<string, string>) {
    super(detail)
    this.status = status
    this.fields = fields
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Unwraps an answer; throws a Problem where it is an error. */
export async function ask<T>(answer: Promise<Answer<T>>): Promise<T> {
  let got: Answer<T>
  try {
    got = await answer
  } catch {
    throw new Problem(0, 'The server cannot be reached. What you typed is still here; try again when it is back.', {})
  }
  if (got.response.ok) return got.data as T
  const model = got.error as Partial<Schemas['ErrorModel']> | undefined
  const fields: Record<string, string> = {}
  for (const e of model?.errors ?? []) {
    if (e.location) fields[e.location.replace(/^body\./, '')] = e.message ?? ''
  }
  throw new Problem(got.response.status, model?.detail ?? `The server answered ${got.response.status}.`, fields)
}
