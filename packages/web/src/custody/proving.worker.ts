import type { Place } from '@spoor/contract'
import { prove } from './proving.ts'

self.onmessage = (event: MessageEvent<Place>) => self.postMessage(prove(event.data))
