import { mount } from 'svelte'
import App from './App.svelte'
import './app.css'

mount(App, { target: document.getElementById('app')! })
// its own files only: see worker.js
if ('serviceWorker' in navigator) void navigator.serviceWorker.register('./worker.js').catch(() => undefined)
