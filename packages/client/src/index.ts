export { GuardRefusal } from './guard-refusal.ts'
export { trailTicket, type TicketWish } from './ticket.ts'
export { withActor, type ActorContext, type QueryClient } from './with-actor.ts'
