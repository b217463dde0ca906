<script lang="ts">
    import Alert from 'flowbite-svelte/Alert.svelte';
    import Button from 'flowbite-svelte/Button.svelte';
    import Input from 'flowbite-svelte/Input.svelte';
    import Label from 'flowbite-svelte/Label.svelte';
    import { onMount } from 'svelte';
    import { Refusal, signIn, signInWays } from '../api/client';
    import type { Identity } from '../api/types';

    let { onsignin }: { onsignin: (identity: Identity) => void } = $props();

    /** What somebody signed in with here last; a server that is new has told a token, and nobody a password. */
    const REMEMBERED = 'pondrix.signs-in-with';
    let way = $state<'token' | 'password'>(localStorage.getItem(REMEMBERED) === 'password' ? 'password' : 'token');
    let token = $state('');
    let name = $state('');
    let password = $state('');
    let fault = $state('');
    let busy = $state(false);
    /** The host of the provider that people are signed in by. */
    let provider = $state('');
    const complete = $derived(way === 'token' ? token !== '' : name !== '' && password !== '');

    onMount(() => {
        fault = said();
        // Without it the other ways are there.
        signInWays().then((ways) => (provider = ways.openid ?? ''), () => undefined);
    });

    /** What the server said of somebody whom the provider sent back, and who is not let in: once. */
    function said() {
        const cookie = document.cookie.split('; ').find((pair) => pair.startsWith('pondrix_said='));
        document.cookie = 'pondrix_said=; Path=/; Max-Age=0';
        return cookie ? decodeURIComponent(cookie.slice(cookie.indexOf('=') + 1)) : '';
    }

    async function submit(event: SubmitEvent) {
        event.preventDefault();
        busy = true;
        fault = '';
        try {
            const identity = await signIn(way === 'token' ? { token } : { name: name.trim(), password });
            localStorage.setItem(REMEMBERED, way);
            onsignin(identity);
        } catch (error) {
            fault = error instanceof Refusal ? error.message : String(error);
        }
        busy = false;
    }

    function change(to: 'token' | 'password') {
        way = to;
        fault = '';
    }
</script>

<div class="grid h-screen place-items-center bg-primary-900 dark:bg-gray-950">
    <form onsubmit={submit} class="w-96 rounded-lg bg-lily p-8 shadow-xl dark:bg-gray-900">
        <h1 class="mb-1 flex items-center gap-3 text-xl font-semibold"><img src="/pond.svg" alt="" class="size-8" />Pondrix</h1>
        <p class="mb-6 text-gray-600 dark:text-gray-300">From a commit to a running release.</p>
        {#if fault}<Alert color="orange" class="mb-5 !text-orange-900 dark:!text-orange-200" role="alert"><span class="block first-letter:uppercase">{fault}</span></Alert>{/if}
        {#if provider}
            <Button href={`/sign-in/openid?to=${encodeURIComponent(location.pathname + location.search)}`} id="with-openid" class="w-full">Sign in with {provider}</Button>
            <p class="my-5 flex items-center gap-3 text-xs text-gray-500 before:h-px before:flex-1 before:bg-gray-300 after:h-px after:flex-1 after:bg-gray-300 dark:text-gray-400 dark:before:bg-gray-700 dark:after:bg-gray-700">or</p>
        {/if}
        {#if way === 'token'}
            <Label for="token" class="mb-1.5">Token</Label>
            <Input id="token" type="password" autocomplete="off" required bind:value={token} />
            {#if !provider}<p class="mt-2 text-xs text-gray-500 dark:text-gray-400">The server printed the first one when it was started.</p>{/if}
        {:else}
            <Label for="name" class="mb-1.5">Name</Label>
            <Input id="name" autocomplete="username" autocapitalize="none" spellcheck="false" required bind:value={name} />
            <Label for="password" class="mt-4 mb-1.5">Password</Label>
            <Input id="password" type="password" autocomplete="current-password" required bind:value={password} />
        {/if}
        <Button type="submit" class="mt-5 w-full" color={provider ? 'alternative' : 'primary'} disabled={busy || !complete}>Sign in</Button>
        <p class="mt-4 text-center text-sm">
            {#if way === 'token'}
                <button type="button" id="with-password" class="underline" onclick={() => change('password')}>Sign in with name and password</button>
            {:else}
                <button type="button" id="with-token" class="underline" onclick={() => change('token')}>Sign in with a token</button>
            {/if}
        </p>
    </form>
</div>
