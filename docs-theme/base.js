// where the site begins, which the search asks for
var base_url = document.documentElement.dataset.base;
document.addEventListener("DOMContentLoaded", function () {
  document.getElementById("search").addEventListener("submit", function (event) {
    event.preventDefault();
  });
});
