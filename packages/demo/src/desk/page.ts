/** Text as HTML text, whatever it holds. */
export function escaped(text: unknown): string {
  return String(text ?? '').replace(
    /[&<>"']/g,
    (c) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;', "'": '&#39;' })[c]!,
  )
}

const style = `
body{font:15px/1.4 system-ui,sans-serif;margin:0;background:#eef1f6;color:#1c2333}
header{background:#33415c;color:#fff;padding:10px 20px;display:flex;gap:18px;align-items:baseline}
header a{color:#dbe4f5}header b{font-weight:600}header .is{margin-left:auto;font-size:13px}
.banner{background:#fff3cd;padding:6px 20px;font-size:13px;border-bottom:1px solid #e0cf8f}
main{padding:18px 20px;max-width:1100px}
table{border-collapse:collapse;background:#fff;width:100%}td,th{border:1px solid #d5dbe6;padding:5px 9px;text-align:left;vertical-align:top}
td{max-width:26em;overflow:hidden;text-overflow:ellipsis;white-space:nowrap}
form.edit{background:#fff;border:1px solid #d5dbe6;padding:16px;max-width:640px}
label{display:block;margin:0 0 10px}label span{display:block;font-size:13px;color:#4a5672}
input,textarea,select{font:inherit;width:100%;box-sizing:border-box;padding:5px 7px;border:1px solid #9aa6bf}
button{font:inherit;padding:6px 16px;background:#33415c;color:#fff;border:0}.said{padding:8px 12px;margin-bottom:12px;background:#dff0e0}.bad{background:#f8dcdc}
nav.pages{margin:10px 0}fieldset{background:#fff;border:1px solid #d5dbe6;margin:14px 0;max-width:640px}td input[type=checkbox]{width:auto}button.bad{background:#8a3030;color:#fff;margin:0}form.edit{margin-bottom:16px}`

export interface DeskPage {
  title: string
  officer: string | null
  tables: readonly { path: string; title: string }[]
  body: string
  /** Scripts that the page needs. */
  scripts?: readonly string[]
}

export function page({ title, officer, tables, body, scripts = [] }: DeskPage): string {
  const links = officer ? tables.map((table) => `<a href="/${table.path}">${escaped(table.title)}</a>`).join('') : ''
  const who = officer
    ? `<form class="is" method="post" action="/sign-out">${escaped(officer)} <button>Sign out</button></form>`
    : ''
  return `<!doctype html><html lang="en-GB"><meta charset="utf-8"><title>${escaped(title)} – Larkmere desk</title><style>${style}</style>
<header><b>Larkmere desk</b>${links}${who}</header>
<div class="banner">A stand-in: a small business application that belongs to the Spoor demo. Everything in it is invented.</div>
<main>${body}</main>${scripts.map((path) => `<script type="module" src="${path}"></script>`).join('')}</html>`
}
