/** Light or dark: as the system says, until somebody chooses. */
const KEY = 'pondrix-theme';
let dark = $state((localStorage.getItem(KEY) ?? (matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light')) === 'dark');

function show() {
    document.documentElement.classList.toggle('dark', dark);
}
show();

export const theme = {
    get dark() {
        return dark;
    },
    turn() {
        dark = !dark;
        localStorage.setItem(KEY, dark ? 'dark' : 'light');
        show();
    },
};
