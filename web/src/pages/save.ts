import type { Chart } from "../api/client";

export function download(name: string, content: Blob) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(content);
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}

const nameOf = (c: Chart, ending: string) =>
  `${c.metric}${c.series.segment ? "-" + c.series.segment.toLowerCase().replaceAll(" ", "-") : ""}.${ending}`;

/** Saves the values of a chart as CSV. */
export function saveCSV(c: Chart) {
  const lines = c.at.map((t, i) =>
    [t, c.observed[i], c.expected[i], c.low[i], c.high[i], c.deviation[i]].map((v) => v ?? "").join(","),
  );
  download(
    nameOf(c, "csv"),
    new Blob(["at,observed,expected,low,high,deviation\n", lines.join("\n"), "\n"], { type: "text/csv" }),
  );
}

/** The drawing of a chart as it stands alone: colours and type written into it. */
function drawing(c: Chart): { svg: string; drawn: SVGSVGElement } | undefined {
  const drawn = document.querySelector<SVGSVGElement>(`svg[data-chart="${c.series.id}"]`);
  if (!drawn) return;
  const style = getComputedStyle(document.documentElement);
  const svg = new XMLSerializer()
    .serializeToString(drawn)
    .replace(/var\((--[\w-]+)\)/g, (_, name: string) => style.getPropertyValue(name).trim())
    .replace(
      /<text /g,
      `<text font-family="Source Sans 3, sans-serif" font-size="12" ` +
        `fill="${style.getPropertyValue("--ink3").trim()}" `,
    );
  return { svg, drawn };
}

/** Saves the drawn chart as SVG. */
export function saveSVG(c: Chart) {
  const d = drawing(c);
  if (d) download(nameOf(c, "svg"), new Blob([d.svg], { type: "image/svg+xml" }));
}

/** Saves the drawn chart as PNG at twice its size. */
export function savePNG(c: Chart) {
  const d = drawing(c);
  if (!d) return;
  const image = new Image();
  image.onload = () => {
    const canvas = document.createElement("canvas");
    canvas.width = d.drawn.clientWidth * 2;
    canvas.height = d.drawn.clientHeight * 2;
    const pen = canvas.getContext("2d")!;
    pen.fillStyle = getComputedStyle(document.documentElement).getPropertyValue("--ground").trim();
    pen.fillRect(0, 0, canvas.width, canvas.height);
    pen.drawImage(image, 0, 0, canvas.width, canvas.height);
    canvas.toBlob((png) => png && download(nameOf(c, "png"), png));
  };
  image.src = "data:image/svg+xml;charset=utf-8," + encodeURIComponent(d.svg);
}
