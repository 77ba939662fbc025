load_mod_a = false
other = 1
load_mod_a = false
