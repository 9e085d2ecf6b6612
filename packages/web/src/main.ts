import '@fontsource-variable/atkinson-hyperlegible-next/wght.css'
import '@fontsource-variable/atkinson-hyperlegible-mono/wght.css'
import './tokens.css'
import { VueQueryPlugin } from '@tanstack/vue-query'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router.ts'
import { giveStylesNonce } from './style-nonce.ts'

giveStylesNonce()

createApp(App)
  .use(createPinia())
  .use(VueQueryPlugin, {
    queryClientConfig: { defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } } },
  })
  .use(router)
  .mount('#app')
