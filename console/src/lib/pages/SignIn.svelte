<script lang="ts">
    import Alert from 'flowbite-svelte/Alert.svelte';
    import Button from 'flowbite-svelte/Button.svelte';
    import Input from 'flowbite-svelte/Input.svelte';
    import Label from 'flowbite-svelte/Label.svelte';
    import { Refusal, signIn } from '../api/client';
    import type { Identity } from '../api/types';

    let { onsignin }: { onsignin: (identity: Identity) => void } = $props();
    let token = $state('');
    let fault = $state('');
    let busy = $state(false);

    async function submit(event: SubmitEvent) {
        event.preventDefault();
        busy = true;
        fault = '';
        try {
            onsignin(await signIn(token));
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
        busy = false;
    }
</script>

<div class="grid h-screen place-items-center bg-primary-900 dark:bg-gray-950">
    <form onsubmit={submit} class="w-96 rounded-lg bg-lily p-8 shadow-xl dark:bg-gray-900">
        <h1 class="mb-1 flex items-center gap-3 text-xl font-semibold"><img src="/pond.svg" alt="" class="size-8" />Pondrix</h1>
        <p class="mb-6 text-gray-600 dark:text-gray-300">From a commit to a running release.</p>
        <Label for="token" class="mb-1.5">Token</Label>
        <Input id="token" type="password" autocomplete="current-password" required bind:value={token} />
        <p class="mt-2 text-xs text-gray-500 dark:text-gray-400">The server printed it when it was first started.</p>
        {#if fault}<Alert color="orange" class="mt-4" role="alert">{fault}</Alert>{/if}
        <Button type="submit" class="mt-5 w-full" disabled={busy || !token}>Sign in</Button>
    </form>
</div>
