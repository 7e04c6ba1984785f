import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { client, take } from './client'
import type { paths } from './schema'

type ListQuery = NonNullable<paths['/hosts']['get']['parameters']['query']>
export type HostFilter = Omit<ListQuery, 'limit' | 'after'>

export const useStatus = () =>
  useQuery({ queryKey: ['status'], queryFn: () => take(client.GET('/status')) })

export const useHosts = (filter: MaybeRefOrGetter<HostFilter>) =>
  useQuery({
    queryKey: ['hosts', computed(() => toValue(filter))],
    queryFn: () =>
      take(client.GET('/hosts', { params: { query: { ...toValue(filter), limit: 1000 } } })),
    placeholderData: (old) => old,
  })

/** Hosts a page at a time, in the order that the filter says; the service sorts, so that what comes first is first of all. */
export const useHostPages = (filter: MaybeRefOrGetter<HostFilter>) =>
  useInfiniteQuery({
    queryKey: ['hosts', 'pages', computed(() => toValue(filter))],
    queryFn: ({ pageParam }) =>
      take(
        client.GET('/hosts', {
          params: { query: { ...toValue(filter), limit: 250, after: pageParam } },
        }),
      ),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last) => last.next,
    placeholderData: (old) => old,
  })

/** The names of all hosts that fit, on all pages. */
export async function allHostNames(filter: HostFilter) {
  const names: string[] = []
  for (let after: string | undefined; ;) {
    const page = await take(
      client.GET('/hosts', { params: { query: { ...filter, limit: 1000, after } } }),
    )
    names.push(...page.items.map((h) => h.name))
    if (!page.next) return names
    after = page.next
  }
}

export const useHost = (host: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['host', computed(() => toValue(host))],
    queryFn: () => take(client.GET('/hosts/{host}', { params: { path: { host: toValue(host) } } })),
  })

export const useHostConfig = (host: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['host', computed(() => toValue(host)), 'config'],
    queryFn: () =>
      take(client.GET('/hosts/{host}/config', { params: { path: { host: toValue(host) } } })),
  })

export const useExplanation = (host: MaybeRefOrGetter<string>, source: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['host', computed(() => toValue(host)), 'explain', computed(() => toValue(source))],
    queryFn: () =>
      take(
        client.GET('/hosts/{host}/explain/{source}', {
          params: { path: { host: toValue(host), source: toValue(source) } },
        }),
      ),
    enabled: computed(() => toValue(source) !== ''),
  })

export const useCatalogue = () =>
  useQuery({ queryKey: ['catalogue'], queryFn: () => take(client.GET('/catalogue')) })

export const useDefinition = (kind: MaybeRefOrGetter<string>, name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['catalogue', computed(() => toValue(kind)), computed(() => toValue(name))],
    queryFn: () =>
      take(
        client.GET('/catalogue/{kind}/{name}', {
          params: { path: { kind: toValue(kind), name: toValue(name) } },
        }),
      ),
  })

export const useDestination = (
  destination: MaybeRefOrGetter<string>,
  wanted: MaybeRefOrGetter<boolean>,
) =>
  useQuery({
    queryKey: ['destination', computed(() => toValue(destination))],
    queryFn: () =>
      take(
        client.GET('/destinations/{destination}', {
          params: { path: { destination: toValue(destination) } },
        }),
      ),
    enabled: computed(() => toValue(wanted)),
    refetchInterval: 5_000,
  })

/** What hosts keep of what a destination refused. The hosts are asked, so it is not asked again by itself. */
export const useRejects = (destination: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['rejects', computed(() => toValue(destination))],
    queryFn: () =>
      take(
        client.GET('/destinations/{destination}/rejects', {
          params: { path: { destination: toValue(destination) } },
        }),
      ),
    refetchInterval: false,
  })

/** What the last preflight of a draft found; nothing when there was none. */
export const usePreflight = (draft: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['preflight', computed(() => toValue(draft))],
    queryFn: () =>
      take(client.GET('/preflights', { params: { query: { draft: toValue(draft) } } })),
    refetchInterval: false,
  })

export const useHostHistory = (host: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['hosts', computed(() => toValue(host)), 'history'],
    queryFn: () =>
      take(client.GET('/hosts/{host}/history', { params: { path: { host: toValue(host) } } })),
  })

export const useTrials = (draft: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['trials', computed(() => toValue(draft))],
    queryFn: () => take(client.GET('/trials', { params: { query: { draft: toValue(draft) } } })),
    refetchInterval: (q) => (q.state.data?.items[0]?.ended === false ? 1500 : false),
  })

export const useBooks = () =>
  useQuery({ queryKey: ['books'], queryFn: () => take(client.GET('/books')) })

export const useDrafts = () =>
  useQuery({ queryKey: ['drafts'], queryFn: () => take(client.GET('/drafts')) })

export const useDraft = (draft: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['draft', computed(() => toValue(draft))],
    queryFn: () =>
      take(client.GET('/drafts/{draft}', { params: { path: { draft: toValue(draft) } } })),
  })

export const useImpact = (draft: MaybeRefOrGetter<number>, open: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['draft', computed(() => toValue(draft)), 'impact'],
    queryFn: () =>
      take(client.GET('/drafts/{draft}/impact', { params: { path: { draft: toValue(draft) } } })),
    enabled: computed(() => toValue(open)),
  })

export const useRevisions = () =>
  useQuery({ queryKey: ['revisions'], queryFn: () => take(client.GET('/revisions')) })

export const useRollouts = () =>
  useQuery({ queryKey: ['rollouts'], queryFn: () => take(client.GET('/rollouts')) })

export const useRollout = (rollout: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['rollout', computed(() => toValue(rollout))],
    queryFn: () =>
      take(client.GET('/rollouts/{rollout}', { params: { path: { rollout: toValue(rollout) } } })),
  })

export const useDraftDefinitions = (
  draft: MaybeRefOrGetter<number>,
  open: MaybeRefOrGetter<boolean> = true,
) =>
  useQuery({
    queryKey: ['draft', computed(() => toValue(draft)), 'definitions'],
    queryFn: () =>
      take(
        client.GET('/drafts/{draft}/definitions', { params: { path: { draft: toValue(draft) } } }),
      ),
    enabled: computed(() => toValue(open)),
  })

export const useConflicts = (draft: MaybeRefOrGetter<number>, open: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['draft', computed(() => toValue(draft)), 'conflicts'],
    queryFn: () =>
      take(
        client.GET('/drafts/{draft}/conflicts', { params: { path: { draft: toValue(draft) } } }),
      ),
    enabled: computed(() => toValue(open)),
  })

export const useCoverage = (draft: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['catalogue', 'coverage', computed(() => toValue(draft))],
    queryFn: () =>
      take(client.GET('/coverage', { params: { query: { draft: toValue(draft) || undefined } } })),
  })

export const useLanguage = () =>
  useQuery({
    queryKey: ['language'],
    queryFn: () => take(client.GET('/language')),
    staleTime: 60_000,
    refetchInterval: false,
  })

export const useSecrets = () =>
  useQuery({ queryKey: ['secrets'], queryFn: () => take(client.GET('/secrets')) })

export const useJoinTokens = () =>
  useQuery({ queryKey: ['join-tokens'], queryFn: () => take(client.GET('/join-tokens')) })

export const useNewcomers = () =>
  useQuery({ queryKey: ['hosts', 'newcomers'], queryFn: () => take(client.GET('/newcomers')) })

export type AuditFilter = {
  who?: string
  action?: string
  object?: string
  text?: string
  since?: string
  until?: string
}

export const useAudit = (filter: MaybeRefOrGetter<AuditFilter>) =>
  useQuery({
    queryKey: ['audit', computed(() => toValue(filter))],
    queryFn: () =>
      take(client.GET('/audit', { params: { query: { ...toValue(filter), limit: 200 } } })),
    placeholderData: (old) => old,
  })
