export { withActor, type ActorContext, type QueryClient } from './with-actor.ts'
