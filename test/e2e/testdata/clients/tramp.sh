# Emacs, over TRAMP.
ssh harbour 'mkdir -p ~/sea; printf "one\ntwo\n" > ~/sea/log; printf "#!/bin/sh\necho ran in \$(basename \$PWD)\n" > ~/sea/tool; chmod +x ~/sea/tool'
timeout 100 emacs --batch --eval "(setq tramp-verbose 1 make-backup-files nil auto-save-default nil create-lockfiles nil tramp-persistency-file-name nil)" -l "$SCRIPTS/tramp.el" 2>&1 | grep '^>'
ssh harbour 'cd ~/sea; cat log; ls'
