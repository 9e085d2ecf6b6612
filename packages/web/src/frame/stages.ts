import type { Permission } from '@spoor/contract'

export interface Stage {
  path: string
  title: string
  needs: Permission
}

/** The stages of the work, in its order; a stage stands in the bar for those who may enter it. */
export const stages: readonly Stage[] = [
  { path: '/today', title: 'Today', needs: 'changes.read' },
  { path: '/changes', title: 'Changes', needs: 'changes.read' },
  { path: '/records', title: 'Records', needs: 'changes.read' },
  { path: '/corrections', title: 'Corrections', needs: 'corrections.read' },
  { path: '/evidence', title: 'Evidence', needs: 'packs.read' },
  { path: '/watches', title: 'Watches', needs: 'watches.read' },
  { path: '/tracking', title: 'Tracking', needs: 'tracking.read' },
]
