package rehearsal

// everywhere are the programs that a rehearsal takes for granted: the utilities of POSIX.1-2017, those of GNU coreutils and of
// the usual archives, bash, git, and the Go toolchain with the compilers and the linker that it calls.
const everywhere = `
alias ar asa at awk basename batch bc bg c99 cal cat cd cflow chgrp chmod chown cksum cmp comm command compress cp crontab
csplit ctags cut cxref date dd delta df diff dirname du echo ed env ex expand expr false fc fg file find fold fort77 fuser
gencat getconf getopts grep hash head iconv id ipcrm ipcs jobs join kill lex link ln locale localedef logger logname lp ls
m4 mailx make man mesg mkdir mkfifo more mv newgrp nice nl nm nohup od paste patch pathchk pax pr printf ps pwd read renice
rm rmdir sed sh sleep sort split strings strip stty tabs tail talk tee test time touch tput tr true tsort tty type ulimit
umask unalias uname uncompress unexpand unget uniq unlink uucp uudecode uuencode uustat uux val vi wait wc what who write
xargs yacc zcat [
arch b2sum base32 base64 basenc chcon chroot dir dircolors factor fmt groups hostid hostname install md5sum mknod mktemp
nproc numfmt pinky ptx readlink realpath runcon seq sha1sum sha224sum sha256sum sha384sum sha512sum shred shuf stat stdbuf
sum sync tac timeout truncate users vdir whoami yes
bash bzip2 egrep fgrep gunzip gzip tar unxz unzip which xz zip
git git-receive-pack git-upload-archive git-upload-pack
go gofmt as c++ cc clang clang++ cpp g++ gcc ld pkg-config
`
