import { QueryClient } from '@tanstack/vue-query'
import createClient from 'openapi-fetch'
import { router } from '../router'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Problem = Schemas['Problem']

/** What a call that failed says: what was tried, why it failed, what to do. */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    readonly problem: Partial<Problem>,
  ) {
    super(problem.detail ?? 'The service did not answer; it may be restarting.')
  }
}

export const client = createClient<paths>({ baseUrl: '/api/v1' })

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2_000,
      refetchInterval: 15_000, // events come first; this is for when they are cut off
      retry: (count, error) => !(error instanceof ProblemError && error.status < 500) && count < 3,
    },
  },
})

/** Takes the data of an answer, or throws what went wrong. */
export async function take<T>(
  call: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  let answer: { data?: T; error?: unknown; response: Response }
  try {
    answer = await call
  } catch {
    throw new ProblemError(0, {})
  }
  if (answer.response.ok) return answer.data as T
  if (answer.response.status === 401 && router.currentRoute.value.path !== '/sign-in') {
    await router.push({ path: '/sign-in', query: { to: router.currentRoute.value.fullPath } })
  }
  throw new ProblemError(answer.response.status, (answer.error ?? {}) as Partial<Problem>)
}
