// Before the first paint, so that nobody is dazzled at night.
const kept = localStorage.getItem('arvok-theme');
const dark = kept ? kept === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches;
document.documentElement.dataset.theme = dark ? 'dark' : 'light';
