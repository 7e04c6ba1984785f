import '@fontsource/inter/latin-400.css'
import '@fontsource/inter/latin-500.css'
import '@fontsource/inter/latin-600.css'
import '@fontsource/jetbrains-mono/latin-400.css'
import './style.css'
import { VueQueryPlugin } from '@tanstack/vue-query'
import { createApp } from 'vue'
import App from './App.vue'
import { queryClient } from './api/client'
import { startTheme } from './composables/theme'
import { router } from './router'

startTheme()
createApp(App).use(router).use(VueQueryPlugin, { queryClient }).mount('#app')
