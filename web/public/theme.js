// Before the first paint, so that nothing flashes: the theme that was chosen.
const chosen = localStorage.getItem("theme");
if (chosen === "light" || chosen === "dark") document.documentElement.dataset.theme = chosen;
