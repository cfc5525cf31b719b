package candidates

import "strings"

// familiar are given names that stand for each other: in full, as people are called, and as
// other languages have them. Each line is one name; a name may be in several lines.
const familiar = `
alexander alex sasha sascha sandro alejandro alexandre aleksander aleksandr alexandros lex xander
alexandra alex sasha sandra alejandra aleksandra sandy
albert al bert bertie alberto
alfred alf fred alfredo
andrew andy drew andreas andre andres andrzej andrei anders ondrej
anthony tony anton antonio antoni antoine antonis toni
anna ann anne anya ania hanna hannah annie anouk anneke
barbara barb babs basia bärbel
benjamin ben benny benji
bernard bernie bernardo bernhard
bridget bridie brigitte birgit britta gitta
caroline carolina caro carrie karolina
catherine kate katie cathy kathy kathryn katherine katharina katarzyna kasia catarina katja katya trine kirsten
charles charlie chuck carl karl carlos karel carlo
christina chris tina kristin kristina krystyna christine kirsten stina
christopher chris kit christoph krzysztof christophe cristobal krzys
daniel dan danny daniele
david dave davy davide dawid
deborah deb debbie
dmitri dima mitya dimitris dmitry
dominic dom nick dominik domenico domingo
dorothy dot dottie dora dorothea dorota
edward ed eddie ted ned eduardo eduard edouard
eleanor ellie nora lena leonor eleonora
elizabeth liz lizzie beth betty eliza elsa elise elisabeth ela elżbieta isabel isabella lisa libby bettina liesbeth
emily em emmy emilia emilie
eugene gene eugen evgeni zhenya
francis frank franz francisco paco pancho francesco franciszek franek françois
frances fran franny francisca paquita françoise franziska
frederick fred freddy fritz friedrich federico fryderyk frederik
gabriel gabe gabi gabriele
george jorge georg jerzy georges giorgio giorgos jurek yuri
gregory greg grzegorz gregor grigori
hans johannes johan john
heinrich heinz heiner henry hank harry henri enrique enrico hendrik henryk
helen helena elena ellen nell lena jelena helene
ignacio nacho ignatius ignacy
irene irena ira irina
jacob jake jack jakob jakub kuba jacobo james jaime
james jim jimmy jamie jaime jaume santiago diego tiago
jane joan janet jeanne johanna joanna asia giovanna juana hanna janina
jennifer jen jenny
john jack johnny jon jan ivan juan giovanni gianni jean johann hans johannes ian sean evan ion iain
jonathan jon jonny
joseph joe joey jose pepe josef jozef giuseppe beppe sepp
joshua josh
judith judy jutta
julian jules juliano julien
juliana julia julie juliet giulia
lawrence larry laurie laurent lorenzo lars lorenz wawrzyniec
leonard leo len lenny leonardo leonid
louis lou louie luis luigi ludwig ludwik lewis
magdalena magda lena madeleine maddie
margaret maggie meg peggy greta marge margarita marguerite małgorzata gosia rita gretchen margit
mary maria marie maría molly marija marysia mia miriam maryam maja
matthew matt matteo matthias mateusz mateo mathieu matias
maximilian max massimiliano maks
michael mike mick mickey michel miguel michał mikhail misha michele mikael miki
mikolaj nicholas nick nikolai nicolas niklas nicola niko kolya klaus claus nils
mohammed mohamed muhammad mohammad mehmet mamadou
natalia natalie natasha nat
oliver ollie olivier oluf
olga olya helga
patrick pat paddy patricio
patricia pat trish patty tricia
paul paulo pablo paolo pawel pavel pål
peter pete pedro pierre pietro piotr petr piet pieter petros petter
philip phil pip philippe felipe filip
rafael rafa raphael rafał
rebecca becky becca rebekka
richard rick dick rich ricky ricardo ryszard
robert bob bobby rob robbie bert roberto
ronald ron ronnie
rosemary rose rosie
samuel sam sammy
samantha sam
stanislaw staszek stan stanislav
stephen steve steven stefan stefano stephan esteban etienne szczepan istvan
susan sue suzanne susanna zuzanna susi
tadeusz tadek thaddeus ted
teresa terry tess theresa therese
theodore theo ted teddy teodor fyodor
thomas tom tommy tomas tommaso tomasz
timothy tim timmy timoteo
tobias toby tobi
valentina valya tina
victoria vicky vika wiktoria vittoria tori
vincent vince vinnie vincenzo vicente
vladimir vova volodya wladimir wlodek
walter walt wally
wilhelm willi willem guillermo guillaume guglielmo wim
william bill billy will willy liam wilhelm
wojciech wojtek adalbert
zofia sophie sofia zosia sonya
`

// forms returns which lines a folded name is in.
func forms() map[string][]int {
	of := map[string][]int{}
	for i, line := range strings.Split(strings.TrimSpace(familiar), "\n") {
		for _, name := range strings.Fields(line) {
			key := fold(name)
			of[key] = append(of[key], i)
		}
	}
	return of
}
