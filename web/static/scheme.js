(function(){try{var e=localStorage.getItem("scheme");(e==="night"||e==="day")&&(document.documentElement.dataset.scheme=e)}catch{}})();
