import {
  ArrowPathRoundedSquareIcon,
  BeakerIcon,
  BellIcon,
  BookOpenIcon,
  ClipboardDocumentListIcon,
  KeyIcon,
  PencilSquareIcon,
  ServerStackIcon,
  ShareIcon,
  SunIcon,
  TicketIcon,
} from '@heroicons/vue/24/outline'

/** The places of the rail. */
export const places = [
  { name: 'Morning', to: '/', icon: SunIcon },
  { name: 'Hosts', to: '/hosts', icon: ServerStackIcon },
  { name: 'Catalogue', to: '/catalogue', icon: BookOpenIcon },
  { name: 'Workbench', to: '/workbench', icon: BeakerIcon },
  { name: 'Changes', to: '/changes', icon: PencilSquareIcon },
  { name: 'Rollouts', to: '/rollouts', icon: ArrowPathRoundedSquareIcon },
  { name: 'Flow', to: '/flow', icon: ShareIcon },
  { name: 'Notices', to: '/notices', icon: BellIcon },
]

export const administration = [
  { name: 'Secrets', to: '/secrets', icon: KeyIcon },
  { name: 'Join tokens', to: '/tokens', icon: TicketIcon },
  { name: 'Audit', to: '/audit', icon: ClipboardDocumentListIcon },
]

/** What can be done from anywhere. */
export const actions = [
  { name: 'Roll out a revision', to: '/rollouts/new' },
  { name: 'Begin or look at drafts', to: '/changes' },
  { name: 'Make a join token', to: '/tokens' },
  { name: 'Set a secret', to: '/secrets' },
  { name: 'Hosts that fail', to: '/hosts?state=failing' },
  { name: 'Hosts that are offline', to: '/hosts?state=offline' },
  { name: 'Look at records as they come', to: '/peek' },
  { name: 'Who sends to listeners', to: '/senders' },
  { name: 'What no format read and no route took', to: '/unclaimed' },
  { name: 'What sources cost destinations a day', to: '/cost' },
  { name: 'Which source has which masks', to: '/coverage' },
  { name: 'Maintenance', to: '/notices' },
]

export interface Found {
  kind: string
  name: string
  to: string
}

/** How well a name fits what was typed: 0 not at all; what begins with it comes before what has it in the middle. */
export function fit(name: string, typed: string): number {
  const n = name.toLowerCase()
  const t = typed.trim().toLowerCase()
  if (!t) return 1
  if (n === t) return 4
  if (n.startsWith(t)) return 3
  return t.split(/\s+/).every((word) => n.includes(word)) ? 2 : 0
}
