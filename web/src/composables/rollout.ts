import type { Schemas } from '../api/client'
import { plural, until } from './format'

type Rollout = Pick<
  Schemas['Rollout'],
  'state' | 'phase' | 'wave' | 'waves' | 'until' | 'asks' | 'takenBackBy'
>

/** What a rollout is at, in a sentence. */
export function atWork(r: Rollout): string {
  if (r.takenBackBy) return `Taken back by rollout ${r.takenBackBy}`
  if (r.state === 'done') return 'Done'
  if (r.state === 'stopped') return 'Stopped'
  if (r.state === 'paused') return 'Paused'
  const wave = r.waves > 1 ? `Wave ${r.wave} of ${r.waves} ` : 'It '
  switch (r.phase) {
    case 'soaking':
      return `${wave}is watched; its soak ends ${until(r.until)}`
    case 'proving':
      return `${wave}waits for evidence, and asks a person ${until(r.until)}`
    case 'asking':
      return `${wave}waits for a person`
    case 'closed':
      return `${wave}waits for its window, which opens ${until(r.until)}`
  }
  return `${wave}changes hosts`
}

/** What the wave at work is at, in few words. */
export function inShort(r: Rollout): string {
  if (r.state === 'stopped') return 'Stopped'
  if (r.state === 'paused') return 'Paused'
  return {
    changing: 'Hosts change',
    soaking: `Is watched; its soak ends ${until(r.until)}`,
    proving: `Waits for evidence; a person is asked ${until(r.until)}`,
    asking: 'Waits for a person',
    closed: `Waits for its window, which opens ${until(r.until)}`,
  }[r.phase]
}

/** Why a rollout is where it is. */
export function reason(r: Schemas['Rollout']): string {
  const decided = [...r.decisions].reverse()
  if (r.asks) return r.asks
  if (r.takenBackBy)
    return (
      decided.find((d) => d.what === 'gate' || d.what === 'stopped')?.why ?? decided[0]?.why ?? ''
    )
  if (r.state === 'running' && r.gate)
    return r.gate.enough ? 'it is well so far' : `it lacks evidence: ${r.gate.missing ?? ''}`
  return decided[0]?.why ?? ''
}

export const tone = (state: string) =>
  state === 'stopped' ? 'text-failing' : state === 'done' ? 'text-healthy' : 'text-waiting'

/** What a decision of a person leads to, in words. */
export function consequence(action: string, r: Schemas['Rollout']): string {
  const untold = r.hosts.filter((h) => !h.told && h.state === 'waiting').length
  const trouble = r.hosts.filter((h) => h.state === 'refused' || h.state === 'timed out').length
  const back = r.back
  switch (action) {
    case 'pause':
      return `${plural(untold, 'host')} that ${untold === 1 ? 'was' : 'were'} not told yet stay as they are until it is resumed. Hosts that were told go on.`
    case 'resume':
      return `It goes on with wave ${r.wave}: ${plural(untold, 'host')} still ${untold === 1 ? 'waits' : 'wait'} for it.`
    case 'stop':
      return `It ends here. Hosts that changed keep what they have; ${plural(untold, 'host')} stay as they are. A later revision waits until it is resumed or taken back.`
    case 'approve':
      return `Wave ${r.wave} goes on without more evidence than there is.`
    case 'skip-soak':
      return `Wave ${r.wave} is not watched any longer; ${r.wave < r.waves ? 'the next one begins' : 'the rollout ends'}.`
    case 'retry':
      return `${plural(trouble, 'host')} that refused or did not answer ${trouble === 1 ? 'is' : 'are'} told again.`
    case 'back':
      return back
        ? `Goes back to revision ${back.revision} on ${plural(back.hosts, 'host')}, all at once; ${back.away ? `${back.away} of them ${back.away === 1 ? 'is' : 'are'} away and follow when they come back.` : 'all of them are there.'}`
        : ''
  }
  return ''
}
