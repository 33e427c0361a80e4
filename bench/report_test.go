package bench_test

const reportText = `# Performance

Written by ` + "`make bench`" + ` on {{.Day}} ({{.Machine}}, {{.Go}}). Everything runs on one machine over loopback: the
service, its PostgreSQL and the rig that answers share its cores. Machines are shared and noisy, so every
figure is a ratio of two things measured in the same run, alternately; {{.Rounds}} rounds, the median counts, all
rounds are shown.

| figure | measured | wanted | |
| --- | --- | --- | --- |
{{range .Figures}}| {{.Name}} | {{.Got}} | {{.Wanted}} | {{.Verdict}} |
{{end}}
## How each was got
{{range .Figures}}
**{{.Name}}.** {{.How}}
{{end}}
## The plan of the list query

The list of certificates that end within 30 days, 100,000 certificates and 300,000 bindings stored:

` + "```" + `
{{.Plan}}
` + "```" + `

## Why it is quick

- Every issuer link is checked once (` + "`core/chain`" + `, links): a thousand leaves of one CA cost a thousand and one
  signature checks, where a plain verification checks leaf and issuer each time.
- A served list that was judged before is not judged again; dates are bounds of the kept result, so it holds for
  every moment.
- Looks that wait give their place to others (` + "`look`" + `, Pool), so silent endpoints cost their deadline once, side by side.
- Looks are stored in batches while the next are under way; an unchanged sighting is one number in one update.
- Files of a configuration are read and parsed side by side, words are slices of the text, names are found in maps.
- Orders that are due begin a hundred at once, in one transaction; an order is mostly a second's wait between two
  polls, so 500 of them wait side by side, and each state is stored with its step in one way to the database and back.
- Nothing holds the estate: a shard reads 500 targets, a page of looks is stored and let go, caches are bounded.
`
