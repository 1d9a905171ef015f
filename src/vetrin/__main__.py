from vetrin.cli import main

main()
