package host

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"evenledger/internal/account"
	"evenledger/internal/system"
)

// Reown implements system.System: one run of find, which visits every file once. A file is given
// away from within its own folder (-execdir), and of a link the link itself (-h), so that nobody
// has another file given to them by what they put in its place meanwhile.
func (c *client) Reown(ctx context.Context, in system.Folders, numbers []system.Renumbered, dry bool, told func(files int)) ([]system.Owned, error) {
	b := &block{}
	if dry {
		b.text.WriteString(counting(in, numbers))
	} else {
		b.own("", walking(in, numbers))
		b.names = nil
	}
	owned := make([]system.Owned, len(numbers))
	a, err := c.doWith(ctx, "walk through files", b, func(kind, text string) {
		switch kind {
		case "N":
			var at int
			var has system.Owned
			if n, err := fmt.Sscan(text, &at, &has.User, &has.Group, &has.Both, &has.After); n == 5 && err == nil && at >= 0 && at < len(owned) {
				owned[at] = has
			}
		case "F":
			if n, err := strconv.Atoi(text); err == nil {
				told(n)
			}
		}
	})
	if err != nil {
		return nil, err
	}
	if !dry && a.results[0].code != 0 {
		return owned, &system.Refusal{Code: account.PartlyDone, Message: fmt.Sprintf("not every file could be given to its new number (%s); post the batch again with --again, and they are gone through once more", c.work.Mask.Hide(a.results[0].said))}
	}
	return owned, nil
}

// folders are those of a walk, as find takes them.
func folders(in system.Folders) string {
	text := words(in.In...)
	if !in.Across {
		text += " -xdev"
	}
	return text
}

// counting counts files by the numbers before, and those that the numbers after have already.
func counting(in system.Folders, numbers []system.Renumbered) string {
	var table strings.Builder
	for _, n := range numbers {
		fmt.Fprintf(&table, "%d %d %d %d\\n", n.User[0], n.User[1], n.Group[0], n.Group[1])
	}
	return fmt.Sprintf(`beat
{ printf %s; find %s -printf '%%U %%G\n' 2>/dev/null; } | awk -v N=%d -v M="$M" '
NR<=N { if($1!=$2){ofu[$1]=NR; nu[$2]=NR}; if($3!=$4){ofg[$3]=NR; ng[$4]=NR}; next }
{ a=ofu[$1]; b=ofg[$2]; if(a) U[a]++; if(b) G[b]++; if(a && a==b) B[a]++; if(nu[$1]) A[nu[$1]]++; else if(ng[$2]) A[ng[$2]]++; if(NR%%50000==0) print M, "F", NR }
END { for(i=1;i<=N;i++) print M, "N", i-1, U[i]+0, G[i]+0, B[i]+0, A[i]+0 }'
still
`, quoted(table.String()), folders(in), len(numbers))
}

// walking gives the files to the numbers after, and counts them. What find complains of goes
// into a variable, and the counts another way.
func walking(in system.Folders, numbers []system.Renumbered) string {
	var users, groups strings.Builder
	for i, n := range numbers {
		if n.User[0] != n.User[1] {
			fmt.Fprintf(&users, `-uid %d -printf 'u%d ' -execdir chown -h %d {} + -o `, n.User[0], i, n.User[1])
		}
		if n.Group[0] != n.Group[1] {
			fmt.Fprintf(&groups, `-gid %d -printf 'g%d ' -execdir chgrp -h %d {} + -o `, n.Group[0], i, n.Group[1])
		}
	}
	return fmt.Sprintf(`{ step=walk; beat
e=$( { { find %s \( \( %s-true \) , \( %s-true \) , -printf '\n' \); printf 'c%%s\n' $?; } 2>&3 | awk -v N=%d -v M="$M" '
/^c/ { c=substr($1,2); next }
{ a=b=-1; for(i=1;i<=NF;i++) { k=substr($i,1,1); v=substr($i,2)+0; if(k=="u") { U[v]++; a=v } else if(k=="g") { G[v]++; b=v } }; if(a>=0 && a==b) B[a]++ }
END { for(i=0;i<N;i++) print M, "N", i, U[i]+0, G[i]+0, B[i]+0, 0; exit c }' >&7; } 3>&1 ); c=$?
still; [ $c = 0 ]; }`, folders(in), users.String(), groups.String(), len(numbers))
}
