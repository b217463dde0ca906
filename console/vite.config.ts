import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
    plugins: [tailwindcss(), svelte()],
    worker: { format: 'es' },
    build: { target: 'es2022', assetsInlineLimit: 0, chunkSizeWarningLimit: 300 },
    server: { proxy: { '/api': process.env.PONDRIX_URL ?? 'http://127.0.0.1:7733' } },
});
