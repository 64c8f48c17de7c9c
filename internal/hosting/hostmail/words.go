package hostmail

import (
	"strings"
	"unicode/utf8"
)

// sense is what a word of a label stands for.
type sense int

// What a value is. Where a label has several, the first of these counts: a “server name” is
// a server, a “database user name” a user.
const (
	noSense sense = iota
	ignored       // an e-mail address, a telephone: no value of ours, whatever else the label says
	password
	user
	port
	folder
	domain
	host
	protocol
	name
)

// What a label or a part of a letter is about.
const (
	aboutPanel sense = iota + 100 // what a browser opens: nothing but its address is taken
	aboutNames                    // name servers
	aboutInbox                    // where mail is read
	aboutData
	aboutMail // where mail is sent
	aboutFiles
	filler // says nothing by itself
)

// webRoot is a folder that a domain shows, whatever the part is about.
const webRoot sense = 200

// vocabulary lists the words of labels: English, German, French, Spanish, Italian, Dutch,
// Portuguese, Polish. Words that are written together or with a hyphen are taken apart.
var vocabulary = map[sense]string{
	password: "password passwort kennwort passwd passphrase pass pwd mot+de+passe mdp contraseña " +
		"contrasena clave " +
		"parola+d'ordine parola wachtwoord palavra-passe senha hasło haslo",
	user: "user username users login benutzer benutzername nutzer nutzername anmeldename " +
		"utilisateur identifiant " +
		"usuario usuária usuário utente gebruiker gebruikersnaam utilizador użytkownik użytkownika " +
		"uzytkownik",
	port: "port puerto porta poort",
	folder: "folder directory path ordner verzeichnis pfad dossier répertoire repertoire chemin " +
		"carpeta directorio ruta " +
		"cartella percorso map pasta diretório diretorio katalog ścieżka",
	webRoot: "webverzeichnis webordner document+root docroot web+root webroot stammverzeichnis " +
		"dokumentenstamm web+folder web+directory " +
		"racine+du+site document+folder",
	domain: "domain domains domain(s domaine domaines domäne nom+de+domaine dominio dominios " +
		"domini domein domeinen domeinnaam " +
		"domínio domínios domena domeny site website url webseite sito sitio strona witryna " +
		"web+address internetadresse " +
		"site+web web+site sitio+web sito+web",
	host: "server servername serveur servidor host hostname hôte hote adresse address dirección " +
		"indirizzo adres " +
		"serwer endereço",
	protocol: "protocol protokoll protocole protocolo protocollo protokół type typ tipo",
	name:     "name nom nombre nome naam nazwa",
	ignored: "e-mail email mail e-mail-address customer kunden kundennummer customer+number " +
		"telefon phone tel fax ip " +
		"ip+address ip-adresse version order number nummer",

	aboutPanel: "panel control+panel panel+de+control pannello+di+controllo painel painel+de+controle " +
		"painel+de+controlo client+area customer+area customer+login kundenbereich kundencenter kundenmenü " +
		"kundenkonto espace+client panneau área+de+cliente area+clienti area+cliente klantenpaneel " +
		"panel+klienta webmail",
	aboutNames: "nameserver nameservers name+server name+servers dns serveurs+de+noms serveur+de+noms " +
		"servidores+de+nombres servidor+de+nombres server+dei+nomi naamserver naamservers " +
		"servidores+de+nomes " +
		"serwery+nazw serwer+nazw",
	aboutInbox: "imap pop pop3 incoming posteingang incoming+mail inkomende entrant entrante entrata",
	aboutData: "mysql mariadb postgresql postgres database databases db datenbank datenbanken base+de+données " +
		"base+de+donnees base+de+datos base+dati base+de+dados banco+de+dados banco base bd databank " +
		"baza bazy",
	aboutMail: "smtp postausgang outgoing outgoing+mail mail+server mailserver sortant correo+saliente " +
		"posta+in+uscita uitgaande correio+de+saída poczta+wychodząca",
	aboutFiles: "sftp ftps ftp ssh webspace web+space files dateien fichiers ficheros archivos " +
		"bestanden ficheiros pliki",
	filler: "the your my our of for to de la le les l' du des del di do da dos das der die den dem " +
		"für von vom zum zur " +
		"ihr ihre ihren votre vos su sus tu il lo suo uw het een van voor w danych access zugang " +
		"acceso accesso accès " +
		"dostęp toegang acesso data dane daten account konto compte cuenta conta details first " +
		"primary main dei delle " +
		"courrier courant saída web dazu hierzu with it there",
}

// senses are the same words by what is written, and longestPhrase is of how many words the longest
// consists.
var senses, longestPhrase = byWord()

func byWord() (map[string][]sense, int) {
	out, most := map[string][]sense{}, 1
	for is, words := range vocabulary {
		for w := range strings.FieldsSeq(words) {
			w = strings.ReplaceAll(w, "+", " ")
			out[w] = append(out[w], is)
			most = max(most, 1+strings.Count(w, " "))
		}
	}
	return out, most
}

// meaning is what a word of a label stands for; nothing for a word that is none.
func meaning(word string) []sense {
	if of := senses[word]; of != nil {
		return of
	}
	parts := strings.FieldsFunc(word, func(r rune) bool { return r == '-' || r == '/' || r == '_' })
	if len(parts) > 1 {
		var all []sense
		for _, part := range parts {
			of := meaning(part)
			if of == nil {
				return nil
			}
			all = append(all, of...)
		}
		return all
	}
	return compound(word)
}

// compound takes a word apart that is written together, such as Datenbankbenutzer or
// gebruikersnaam.
func compound(word string) []sense {
	const shortest, longest = 2, 60
	if len(word) > longest {
		return nil
	}
	for at := len(word) - 1; at >= shortest; at-- {
		if !utf8.RuneStart(word[at]) {
			continue
		}
		head := senses[word[:at]]
		if head == nil || head[0] == filler {
			continue
		}
		for _, link := range []string{"", "s", "n", "en"} {
			tail, linked := strings.CutPrefix(word[at:], link)
			if linked && len(tail) > shortest && senses[tail] != nil {
				return append(append([]sense{}, head...), senses[tail]...)
			}
		}
	}
	return nil
}

// verbs stand between a label and its value.
var verbs = set("is are lautet ist est es è é to jest sont son sono zijn são są : = - – → -> =>")

// prepositions stand between what something is about and its address.
var prepositions = set("at under unter bei auf via on sur à en a en presso su op pod na em:")

// salutations begin a letter; what they say of a customer is no heading.
var salutations = set("dear hello hi welcome sehr liebe lieber guten hallo bonjour cher chère madame monsieur hola " +
	"estimado estimada gentile buongiorno ciao salve beste geachte caro cara prezado prezada olá " +
	"ola szanowny szanowna " +
	"dzień witaj witamy drogi")

func set(words string) map[string]bool {
	out := map[string]bool{}
	for w := range strings.FieldsSeq(words) {
		out[w] = true
	}
	return out
}
