import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { client, take, type Schemas } from './client'

export type HostFilter = { q?: string; state?: Schemas['State']; label?: string[]; retired?: boolean }

export const useStatus = () => useQuery({ queryKey: ['status'], queryFn: () => take(client.GET('/status')) })

export const useHosts = (filter: MaybeRefOrGetter<HostFilter>) =>
  useQuery({
    queryKey: ['hosts', computed(() => toValue(filter))],
    queryFn: () => take(client.GET('/hosts', { params: { query: { ...toValue(filter), limit: 1000 } } })),
    placeholderData: (old) => old,
  })

export const useHost = (host: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['host', computed(() => toValue(host))],
    queryFn: () => take(client.GET('/hosts/{host}', { params: { path: { host: toValue(host) } } })),
  })

export const useHostConfig = (host: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['host', computed(() => toValue(host)), 'config'],
    queryFn: () => take(client.GET('/hosts/{host}/config', { params: { path: { host: toValue(host) } } })),
  })

export const useExplanation = (host: MaybeRefOrGetter<string>, source: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['host', computed(() => toValue(host)), 'explain', computed(() => toValue(source))],
    queryFn: () => take(client.GET('/hosts/{host}/explain/{source}', { params: { path: { host: toValue(host), source: toValue(source) } } })),
    enabled: computed(() => toValue(source) !== ''),
  })

export const useCatalogue = () => useQuery({ queryKey: ['catalogue'], queryFn: () => take(client.GET('/catalogue')) })

export const useDefinition = (kind: MaybeRefOrGetter<string>, name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['catalogue', computed(() => toValue(kind)), computed(() => toValue(name))],
    queryFn: () => take(client.GET('/catalogue/{kind}/{name}', { params: { path: { kind: toValue(kind), name: toValue(name) } } })),
  })

export const useDrafts = () => useQuery({ queryKey: ['drafts'], queryFn: () => take(client.GET('/drafts')) })

export const useDraft = (draft: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['draft', computed(() => toValue(draft))],
    queryFn: () => take(client.GET('/drafts/{draft}', { params: { path: { draft: toValue(draft) } } })),
  })

export const useImpact = (draft: MaybeRefOrGetter<number>, open: MaybeRefOrGetter<boolean>) =>
  useQuery({
    queryKey: ['draft', computed(() => toValue(draft)), 'impact'],
    queryFn: () => take(client.GET('/drafts/{draft}/impact', { params: { path: { draft: toValue(draft) } } })),
    enabled: computed(() => toValue(open)),
  })

export const useRevisions = () => useQuery({ queryKey: ['revisions'], queryFn: () => take(client.GET('/revisions')) })

export const useRollouts = () => useQuery({ queryKey: ['rollouts'], queryFn: () => take(client.GET('/rollouts')) })

export const useRollout = (rollout: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: ['rollout', computed(() => toValue(rollout))],
    queryFn: () => take(client.GET('/rollouts/{rollout}', { params: { path: { rollout: toValue(rollout) } } })),
  })
