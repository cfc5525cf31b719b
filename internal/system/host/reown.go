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
func (c *client) Reown(ctx context.Context, may system.Permit, in system.Folders, numbers []system.Renumbered, dry bool, told func(files int)) ([]system.Owned, error) {
	b := &block{may: may}
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
			if n, err := fmt.Sscan(text, &at, &has.User, &has.Group, &has.Both, &has.After, &has.Marked, &has.Listed); n == 7 && err == nil && at >= 0 && at < len(owned) {
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
{ printf %[1]s; find %[2]s -printf 'F %%U %%G %%m %%y\n' 2>/dev/null; marked %[2]s | sed -E 's/^[0-9]+ ([0-9]+ [0-9]+) .*/C \1/'; listed %[2]s | sed -nE 's/^(default:)?(user|group):([0-9]+):.*/A \2 \3/p'; } | awk -v N=%[3]d -v M="$M" '
NR<=N { if($1!=$2){ofu[$1]=NR; nu[$2]=NR}; if($3!=$4){ofg[$3]=NR; ng[$4]=NR}; next }
$1=="C" { a=ofu[$2]; if(!a) a=ofg[$3]; if(a) K[a]++; next }
$1=="A" { a=($2=="user") ? ofu[$3] : ofg[$3]; if(a) L[a]++; next }
{ a=ofu[$2]; b=ofg[$3]; if(a) U[a]++; if(b) G[b]++; if(a && a==b) B[a]++; if(nu[$2]) A[nu[$2]]++; else if(ng[$3]) A[ng[$3]]++
  if((a || b) && $5=="f" && $4 ~ /^[2-7][0-7][0-7][0-7]$/) K[a ? a : b]++; if(NR%%50000==0) print M, "F", NR }
END { for(i=1;i<=N;i++) print M, "N", i-1, U[i]+0, G[i]+0, B[i]+0, A[i]+0, K[i]+0, L[i]+0 }'
still
`, quoted(table.String()), folders(in), len(numbers))
}

// walking gives the files to the numbers after, and counts them. What find complains of goes
// into a variable, and the counts another way. A change of owner takes bits such as setuid and capabilities away, which are put back: to the
// file that was opened before, and no other. Entries of access lists are exchanged, of whosever files they are.
func walking(in system.Folders, numbers []system.Renumbered) string {
	var users, groups, lists strings.Builder
	for i, n := range numbers {
		if n.User[0] != n.User[1] {
			fmt.Fprintf(&users, `-uid %d -printf 'u%d ' \( -type f -perm /7000 -execdir sh -c "$keep" keep chown %[3]d {} + -o -execdir chown -h %[3]d {} + \) -o `, n.User[0], i, n.User[1])
			fmt.Fprintf(&lists, "u %d %d;", n.User[0], n.User[1])
		}
		if n.Group[0] != n.Group[1] {
			fmt.Fprintf(&groups, `-gid %d -printf 'g%d ' \( -type f -perm /7000 -execdir sh -c "$keep" keep chgrp %[3]d {} + -o -execdir chgrp -h %[3]d {} + \) -o `, n.Group[0], i, n.Group[1])
			fmt.Fprintf(&lists, "g %d %d;", n.Group[0], n.Group[1])
		}
	}
	return fmt.Sprintf(`{ step=walk; beat; premark %[5]s %[1]s; relist %[5]s %[1]s
e=$( { { find %[1]s \( \( %[2]s-true \) , \( %[3]s-true \) , -printf '\n' \); printf 'c%%s\n' $?; } 2>&3 | awk -v N=%[4]d -v M="$M" '
/^c/ { c=substr($1,2); next }
{ a=b=-1; for(i=1;i<=NF;i++) { k=substr($i,1,1); v=substr($i,2)+0; if(k=="u") { U[v]++; a=v } else if(k=="g") { G[v]++; b=v } }; if(a>=0 && a==b) B[a]++ }
END { for(i=0;i<N;i++) print M, "N", i, U[i]+0, G[i]+0, B[i]+0, 0, 0, 0; exit c }' >&7; } 3>&1 ); c=$?
still; [ $c = 0 ]; }`, folders(in), users.String(), groups.String(), len(numbers), quoted(lists.String()))
}
