<script lang="ts">
    import { onMount } from 'svelte';
    import { signOut, whoami } from './lib/api/client';
    import type { Identity } from './lib/api/types';
    import { administers, administersAll } from './lib/rights';
    import Shell from './lib/components/Shell.svelte';
    import Audit from './lib/pages/Audit.svelte';
    import Image from './lib/pages/Image.svelte';
    import Images from './lib/pages/Images.svelte';
    import Plan from './lib/pages/Plan.svelte';
    import Run from './lib/pages/Run.svelte';
    import Runs from './lib/pages/Runs.svelte';
    import SignIn from './lib/pages/SignIn.svelte';
    import { link, router } from './lib/router.svelte';
    import './lib/theme.svelte';

    let identity = $state<Identity | null>();
    let up = $state(true);

    onMount(async () => {
        identity = await whoami().catch(() => null);
    });

    async function leave() {
        await signOut().catch(() => undefined);
        identity = null;
    }

    function heard(connected: boolean) {
        up = connected;
        // A stream that is refused may mean that the session is over.
        if (!connected) whoami().then((me) => (identity = me), (error: { status?: number }) => {
            if (error.status === 401) identity = null;
        });
    }

    $effect(() => {
        const page = router.page;
        const name = page.name === 'run' ? `${page.project}#${page.number} \u2013 ` : page.name === 'plan' ? `Plan of ${page.project} \u2013 ` : page.name === 'images' || page.name === 'image' ? 'Images \u2013 ' : page.name === 'audit' ? 'Audit \u2013 ' : '';
        document.title = `${name}Pondrix`;
    });
</script>

{#if identity}
    <Shell name={identity.name} audits={administers(identity)} {up} onsignout={leave}>
        {#if router.page.name === 'runs'}
            {#key router.page.project}<Runs project={router.page.project} onup={heard} />{/key}
        {:else if router.page.name === 'run'}
            <Run project={router.page.project} number={router.page.number} job={router.page.job} onup={heard} />
        {:else if router.page.name === 'images'}
            <Images onup={heard} />
        {:else if router.page.name === 'image'}
            {#key router.page.image}<Image name={router.page.image} />{/key}
        {:else if router.page.name === 'audit'}
            <Audit wanted={router.page.wanted} all={administersAll(identity)} />
        {:else if router.page.name === 'plan'}
            {#key router.page.project}<Plan project={router.page.project} />{/key}
        {:else}
            <p class="p-5">There is no page {router.page.path}. <a href="/" onclick={link} class="underline">All runs</a></p>
        {/if}
    </Shell>
{:else if identity === null}
    <SignIn onsignin={(me) => (identity = me)} />
{/if}
