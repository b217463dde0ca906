import { expect, test } from 'vitest';
import { Hub, type Source } from '../src/lib/api/hub';

/** A hub whose connections and clock are the test's. */
function place() {
    const opened: (Source & { url: string; isOpen: boolean })[] = [];
    const waiting: { then: () => void; millis: number }[] = [];
    const hub = new Hub(
        (url) => {
            const source = { url, isOpen: true, onopen: null, onerror: null, onmessage: null, close: () => void (source.isOpen = false) } as (typeof opened)[0];
            opened.push(source);
            return source;
        },
        (then, millis) => {
            const one = { then, millis };
            waiting.push(one);
            return one;
        },
        (one) => void waiting.splice(0, waiting.length, ...waiting.filter((other) => other !== one)),
    );
    const pass = () => waiting.splice(0).forEach(({ then }) => then());
    const say = (key: string, kind: string, id: string, data: unknown) =>
        opened.at(-1)?.onmessage?.({ data: JSON.stringify({ key, kind, id, data }) } as MessageEvent<string>);
    const asked = () => [...new URLSearchParams(opened.at(-1)?.url.split('?')[1])];
    return { hub, opened, waiting, pass, say, asked };
}

test('however much is followed there is one connection, and each gets what is its own', () => {
    const { hub, opened, pass, say, asked } = place();
    const got: unknown[] = [];
    hub.follow('runs', (kind, data) => got.push(['runs', kind, data]), () => {});
    hub.follow('run/desk/3', (kind, data) => got.push(['run', kind, data]), () => {});
    pass();
    expect(opened.length).toBe(1);
    expect(asked()).toEqual([['s0', 'runs@'], ['s1', 'run/desk/3@']]);
    say('s1', 'run', '7', { a: 1 });
    say('s0', 'change', '12', { b: 2 });
    expect(got).toEqual([['run', 'run', { a: 1 }], ['runs', 'change', { b: 2 }]]);
    hub.follow('log/desk/3/a~b', () => {}, () => {});
    pass();
    expect(opened.filter((source) => source.isOpen).length).toBe(1);
    expect(asked(), 'what was seen is not asked for again').toEqual([['s0', 'runs@12'], ['s1', 'run/desk/3@7'], ['s2', 'log/desk/3/a~b@']]);
});

test('a connection that breaks is made again after a while, and everybody is told of both', () => {
    const { hub, opened, waiting, pass, say, asked } = place();
    const states: boolean[] = [];
    hub.follow('runs', () => {}, (up) => states.push(up));
    pass();
    opened[0]?.onopen?.({} as Event);
    say('s0', 'change', '5', {});
    hub.follow('run/desk/3', () => {}, () => {});
    pass();
    opened[1]?.onopen?.({} as Event);
    expect(states, 'more to follow is no news').toEqual([true]);
    opened[1]?.onerror?.({} as Event);
    expect(states).toEqual([true, false]);
    expect(waiting.map(({ millis }) => millis)).toEqual([1000]);
    pass();
    expect(opened.length).toBe(3);
    expect(opened.filter((source) => source.isOpen).length).toBe(1);
    expect(asked()).toEqual([['s0', 'runs@5'], ['s1', 'run/desk/3@']]);
    opened[2]?.onopen?.({} as Event);
    expect(states).toEqual([true, false, true]);
});

test('what has ended, was refused or is no longer followed is not asked for', () => {
    const { hub, opened, pass, say, asked } = place();
    const got: string[] = [];
    hub.follow('log/desk/3/a~b', (kind) => got.push(kind), () => {});
    hub.follow('run/desk/99', (kind) => got.push(kind), () => {});
    const leave = hub.follow('runs', (kind) => got.push(kind), () => {});
    pass();
    say('s0', 'end', '100', { state: 'passed' });
    say('s1', 'refused', '', { detail: 'there is no run' });
    hub.follow('run/desk/4', () => {}, () => {});
    leave();
    pass();
    expect(got).toEqual(['end', 'refused']);
    expect(asked()).toEqual([['s3', 'run/desk/4@']]);
    say('s2', 'change', '1', {});
    expect(got.length).toBe(2);
    expect(opened.filter((source) => source.isOpen).length).toBe(1);
});
