"use strict";
(function () {
	const table = document.querySelector("table"), body = table.tBodies[0], rows = Array.from(body.rows);
	const search = document.getElementById("search"), found = document.getElementById("found");
	search.closest("p").hidden = false;
	search.addEventListener("input", function () {
		const words = search.value.toLowerCase().split(/\s+/).filter(Boolean);
		let shown = 0;
		for (const row of rows) {
			const text = row.textContent.toLowerCase();
			row.hidden = !words.every(function (w) { return text.includes(w); });
			if (!row.hidden) shown++;
		}
		found.textContent = words.length ? shown + " of " + rows.length : "";
	});
	Array.from(table.tHead.rows[0].cells).forEach(function (head, column) {
		const button = document.createElement("button");
		button.type = "button";
		button.textContent = head.textContent;
		head.replaceChildren(button);
		button.addEventListener("click", function () {
			const down = head.getAttribute("aria-sort") === "ascending";
			for (const other of table.tHead.rows[0].cells) other.removeAttribute("aria-sort");
			head.setAttribute("aria-sort", down ? "descending" : "ascending");
			rows.sort(function (a, b) {
				const order = a.cells[column].textContent.localeCompare(b.cells[column].textContent, undefined, { numeric: true });
				return down ? -order : order;
			});
			body.append.apply(body, rows);
		});
	});
})();
