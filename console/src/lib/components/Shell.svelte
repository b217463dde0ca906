<script lang="ts">
    import Button from 'flowbite-svelte/Button.svelte';
    import type { Snippet } from 'svelte';
    import { link } from '../router.svelte';
    import { theme } from '../theme.svelte';

    let { name, audits, up, onsignout, children }: { name: string; audits: boolean; up: boolean; onsignout: () => void; children: Snippet } = $props();
</script>

<div class="flex h-screen flex-col">
    <header class="flex items-center gap-4 border-b border-gray-200 bg-primary-900 px-5 py-2 text-primary-100 dark:border-gray-800 dark:bg-gray-900">
        <a href="/" onclick={link} class="flex items-center gap-2.5 font-semibold tracking-wide text-lily">
            <img src="/pond.svg" alt="" class="size-6" />Pondrix
        </a>
        <nav class="flex gap-4"><a href="/" onclick={link} class="hover:text-lily">Runs</a><a href="/images" onclick={link} class="hover:text-lily">Images</a>{#if audits}<a href="/audit" onclick={link} class="hover:text-lily">Audit</a>{/if}</nav>
        <span class="ml-auto text-xs" role="status">
            {#if !up}<span class="text-ember-soft">not connected, trying again</span>{/if}
        </span>
        <button class="cursor-pointer text-xs hover:text-lily" onclick={theme.turn}>{theme.dark ? 'light' : 'dark'}</button>
        <span class="text-xs">{name}</span>
        <Button id="sign-out" size="xs" color="alternative" class="!border-primary-600 !bg-transparent !py-1 !text-primary-100" onclick={onsignout}>Sign out</Button>
    </header>
    <main class="min-h-0 flex-1 overflow-auto">{@render children()}</main>
</div>
