/** The moment now, as something that pages can depend on. */
let now = $state(Date.now());
setInterval(() => (now = Date.now()), 500);

export const clock = {
    get now() {
        return now;
    },
};
