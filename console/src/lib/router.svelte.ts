/** Pages have addresses: `/`, `/audit`, `/images`, `/images/NAME`, `/plan/PROJECT`, `/runs/PROJECT/NUMBER`, `/runs/PROJECT/NUMBER/STAGE/JOB`. */

export type Page =
    | { name: 'runs'; project: string | undefined }
    | { name: 'run'; project: string; number: number; job: string | undefined }
    | { name: 'plan'; project: string }
    | { name: 'images' }
    | { name: 'image'; image: string }
    | { name: 'audit'; wanted: Record<string, string> }
    | { name: 'unknown'; path: string };

function read(): Page {
    const path = location.pathname;
    const parts = path.split('/').filter(Boolean).map(decodeURIComponent);
    if (parts.length === 0) return { name: 'runs', project: new URLSearchParams(location.search).get('project') ?? undefined };
    const [root, project, number, stage, job] = parts;
    if (root === 'runs' && project && number && /^[1-9][0-9]*$/.test(number)) {
        return { name: 'run', project, number: Number(number), job: stage && job ? `${stage}/${job}` : undefined };
    }
    if (root === 'images') return parts.length > 1 ? { name: 'image', image: parts.slice(1).join('/') } : { name: 'images' };
    if (root === 'audit' && !project) return { name: 'audit', wanted: Object.fromEntries(new URLSearchParams(location.search)) };
    if (root === 'plan' && project && !number) return { name: 'plan', project };
    return { name: 'unknown', path };
}

let page = $state<Page>(read());
addEventListener('popstate', () => (page = read()));

export const router = {
    get page() {
        return page;
    },
    /** Goes to an address; `replace` leaves no step to go back to. */
    go(path: string, replace = false) {
        history[replace ? 'replaceState' : 'pushState'](null, '', path);
        page = read();
    },
};

/** Has a link of the console handled without loading the page anew. */
export function link(event: MouseEvent) {
    const anchor = event.currentTarget as HTMLAnchorElement;
    if (event.button !== 0 || event.metaKey || event.ctrlKey || event.shiftKey || event.altKey) return;
    event.preventDefault();
    router.go(anchor.getAttribute('href') ?? '/');
}

export const imageAddress = (name: string) => `/images/${name}`;

export function auditAddress(wanted: Record<string, string>) {
    const query = new URLSearchParams(wanted).toString();
    return query ? `/audit?${query}` : '/audit';
}

export const runAddress = (project: string, number: number, job?: string) =>
    `/runs/${project}/${number}${job ? `/${job}` : ''}`;
