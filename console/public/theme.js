// Runs before the first paint, so that the chosen theme does not flash.
document.documentElement.dataset.theme =
  localStorage.getItem("endeixis-theme") ||
  (matchMedia("(prefers-color-scheme: dark)").matches ? "night-watch" : "day-watch");
