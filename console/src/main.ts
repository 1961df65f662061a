import './look.css'

import { createPinia } from 'pinia'
import { createApp } from 'vue'

import App from './App.vue'
import { router } from './router'
import { texts } from './state/language'

createApp(App).use(createPinia()).use(router).use(texts).mount('#app')
